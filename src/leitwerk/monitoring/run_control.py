"""The schedule of a setup carried out: recording is started and stopped when its runs say so."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Sequence
from datetime import datetime, timedelta
from zoneinfo import ZoneInfo

from leitwerk.alarms.conditions import Condition
from leitwerk.rules.schedule import PlannedRun, RunPlan, end_of, plan_runs

_AHEAD = timedelta(days=400)


class RunControl:
    """Which run is going on. Calls ``switch`` with ``start`` or ``stop`` and the run's name.

    One run at a time: what is due while another is going on waits until that has ended.
    """

    def __init__(
        self,
        plans: Sequence[RunPlan],
        zone: ZoneInfo,
        now: datetime,
        switch: Callable[[str, str], None],
    ) -> None:
        plans = [plan for plan in plans if not plan.stores]  # the device stores those by itself
        self._waiting = [plan for plan in plans if plan.start.when is not None]
        self._planned = deque(plan_runs(plans, zone, now, now + _AHEAD))
        self._zone, self._switch = zone, switch
        self.running: PlannedRun | None = None
        self._held: dict[str, bool | None] = {}

    def step(
        self,
        now: datetime,
        holds: Callable[[Condition], bool | None],
        is_full: Callable[[], bool] = lambda: False,
    ) -> None:
        """Start and stop what is due. ``is_full`` is asked for runs that end when memory is full."""
        if (run := self.running) is not None:
            over = run.stop is not None and now >= run.stop
            if over or (run.ends.when_full and is_full()):
                self._switch("stop", run.name)
                self.running = None
        began = [plan for plan in self._waiting if self._has_begun(plan, holds)]
        if self.running is not None:
            return
        while self._planned and self._planned[0].stop is not None and self._planned[0].stop <= now:
            self._planned.popleft()  # it would be over already
        if self._planned and self._planned[0].start <= now:
            self._start(self._planned.popleft())
        elif began:
            stop = end_of(began[0].stop, now, self._zone, None)
            self._start(PlannedRun(began[0].name, now, stop, began[0].stop))

    def _start(self, run: PlannedRun) -> None:
        self._switch("start", run.name)
        self.running = run

    def _has_begun(self, plan: RunPlan, holds: Callable[[Condition], bool | None]) -> bool:
        assert plan.start.when is not None
        found = holds(plan.start.when)
        if found is None:
            return False
        before, self._held[plan.name] = self._held.get(plan.name), found
        return found and not before
