"""The steps of an upload, shown while they run, on standard error."""

from __future__ import annotations

import sys
from types import TracebackType
from typing import Self

import click
from rich.console import Console
from rich.progress import BarColumn, Progress, TextColumn

# After these steps it is shown whether the device may be unplugged.
_SAFETY = {
    "keep a journal": "from here on, do not unplug the device",
    "read everything back": "it is safe to unplug the device",
}


class StepView:
    """A growing list of steps with bars on a terminal, plain lines anywhere else."""

    def __init__(self) -> None:
        self.console = Console(stderr=True, highlight=False, markup=False, emoji=False)
        self._progress = Progress(
            TextColumn("{task.description:28}", markup=False),
            BarColumn(bar_width=24),
            TextColumn("{task.fields[count]}", markup=False),
            console=self.console,
        )
        self._tasks: dict[str, int] = {}

    def __enter__(self) -> Self:
        if self.console.is_terminal:
            self._progress.start()
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        # Stopping what has not begun would print an empty line.
        if self._progress.live.is_started:
            self._progress.stop()

    def pause(self) -> None:
        """Make room for a question; showing goes on by itself afterwards."""
        if self._progress.live.is_started:
            self._progress.stop()

    def say(self, text: str) -> None:
        """Print a result on standard output, above the bars where both share a screen."""
        if self._progress.live.is_started and sys.stdout.isatty():
            self.console.print(text, markup=False, soft_wrap=True)
        else:
            click.echo(text)

    def show_unit(self, unit: str, step: str, done: int, total: int) -> None:
        """Show at which step a unit of many is: one line for each, gone when it has ended."""
        if not self.console.is_terminal:
            return
        if not self._progress.live.is_started:
            self._progress.start()
        if unit not in self._tasks:
            self._tasks[unit] = self._progress.add_task(unit, total=total, count=step)
        self._progress.update(self._tasks[unit], completed=done, total=total, count=step)  # type: ignore[arg-type]

    def end_unit(self, unit: str) -> None:
        """Take the line of a unit away."""
        if unit in self._tasks:
            self._progress.update(self._tasks[unit], visible=False)  # type: ignore[arg-type]

    def show(self, step: str, done: int, total: int) -> None:
        """Show how far a step is."""
        count = f"{done}/{total}" if total > 1 else "done" if done == total else ""
        note = _SAFETY.get(step, "") if done == total else ""
        if not self.console.is_terminal:
            if done == total:
                self.console.print(f"{step}: {count}" + (f"\n{note}" if note else ""))
            return
        count = f"{count}   {note}" if note else count
        if not self._progress.live.is_started:
            self._progress.start()
        if step not in self._tasks:
            self._tasks[step] = self._progress.add_task(step, total=total, count=count)
        self._progress.update(self._tasks[step], completed=done, total=total, count=count)  # type: ignore[arg-type]
