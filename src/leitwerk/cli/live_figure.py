"""The figure of a running watch: it grows in a window, or is drawn into a file when asked for."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from leitwerk.reports.canvas import new_figure, save
from leitwerk.reports.time_figure import Trace, chosen_panels, fill_figure

if TYPE_CHECKING:
    from matplotlib.figure import Figure

    from leitwerk.cli.panels import Panels
    from leitwerk.monitoring.watching import DeviceWatch, Watching
    from leitwerk.parsing.units import Unit

_EVERY_S = 1.0


class WatchFigure:
    """Draws what a watch has seen. ``panels`` name channels, with their devices where there are several.

    Raises
    ------
    QuantityError
        A panel names no channel, or too many.

    """

    def __init__(
        self,
        watching: Watching,
        titles: Sequence[str],
        panels: Panels,
        units: Mapping[str, Unit],
    ) -> None:
        self._watching, self._titles, self._units = watching, titles, units
        self._panels = panels
        chosen_panels(self._traces(), panels.names)

    def save(self, path: Path) -> None:
        """Draw it into a PNG or SVG file.

        Raises
        ------
        FileProblem
            The file cannot be written.

        """
        figure = new_figure()
        self._fill(figure)
        save(figure, path)

    def show(self) -> None:
        """Let it grow in a window, until that is closed or nothing is read any more.

        Raises
        ------
        FileProblem
            There is no screen.
        Exception
            What a thread of the watch failed with.

        """
        from leitwerk.reports.window import show_figure

        figure = new_figure()

        def redraw() -> bool:
            self._watching.wait(0.0)  # raises what a thread failed with
            self._fill(figure)
            return not self._watching.is_over

        show_figure(figure, " · ".join(self._titles), redraw, _EVERY_S)

    def _fill(self, figure: Figure) -> None:
        with self._watching.lock:
            traces = self._traces()
            events = [event for watch in self._watching.watches for event in _silences(watch)]
        zone = self._watching.watches[0].setup.setup.zone
        title = " · ".join(watch.setup.setup.title for watch in self._watching.watches)
        fill_figure(
            figure, traces, title=title, panels=self._panels.names, spans=self._panels.spans,
            units=self._units, events=events, zone=zone,
        )  # fmt: skip

    def _traces(self) -> list[Trace]:
        """Every channel with a copy of its samples."""
        found = []
        for title, watch in zip(self._titles, self._watching.watches, strict=True):
            history = watch.board.history
            times, values = history.times_s.copy(), history.known()
            for k, channel in enumerate(watch.board.channels):
                name = channel.name if len(self._titles) == 1 else f"{title}.{channel.name}"
                found.append(Trace(name, channel, times, values[:, k]))
        return found


def _silences(watch: DeviceWatch) -> list[tuple[float, str]]:
    """When the device fell silent."""
    return [(watch.begins_s + silence.since_s, "no answer") for silence in watch.silences.spans()]
