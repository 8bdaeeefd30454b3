"""The interactive view on a terminal: it draws the lines of a view, and gives it the keys."""

from __future__ import annotations

import os
from typing import Any

from prompt_toolkit.application import Application
from prompt_toolkit.formatted_text import StyleAndTextTuples
from prompt_toolkit.key_binding import KeyBindings, KeyPressEvent
from prompt_toolkit.layout import FormattedTextControl, Layout, Window
from prompt_toolkit.output.color_depth import ColorDepth
from prompt_toolkit.styles import Style

from leitwerk.cli.live_view import LiveView

_STYLE = Style.from_dict(
    {
        "title": "bold", "head": "bold", "selected": "reverse", "key": "reverse", "dim": "",
        "bad": "ansired", "alarm": "bold ansired", "warn": "ansiyellow", "value": "bold ansigreen",
    }
)  # fmt: skip
_KEYS = {
    "up": "up", "down": "down", "left": "left", "right": "right", "pageup": "pageup",
    "pagedown": "pagedown", "home": "home", "end": "end", "enter": "enter", "escape": "escape", " ": "space",
    "c-c": "q",
    **{key: key for key in "mru+-[]hHcfq"},
}  # fmt: skip
_SHORTEST_S, _LONGEST_S = 0.1, 1.0


def run_screen(view: LiveView) -> None:
    """Show a view until it is ended, from the keyboard or because nothing is read any more.

    Raises
    ------
    Exception
        What a thread of the watch failed with.

    """
    bindings = KeyBindings()
    for key, name in _KEYS.items():

        def press(event: KeyPressEvent, name: str = name) -> None:
            with view.watching.lock:
                view.press(name)
            _end_if_over(view, event.app)

        bindings.add(key, eager=True)(press)
    control = FormattedTextControl(lambda: _text(view, app), show_cursor=False)
    refresh_s = max(_SHORTEST_S, min(_LONGEST_S, view.watching.period_s))
    app: Application[None] = Application(
        layout=Layout(Window(control, wrap_lines=False)),
        key_bindings=bindings,
        style=_STYLE,
        full_screen=True,
        refresh_interval=refresh_s,
        color_depth=ColorDepth.DEPTH_1_BIT if os.environ.get("NO_COLOR") else None,
        before_render=lambda app: _end_if_over(view, app),
    )
    app.ttimeoutlen = 0.05
    try:
        app.run()
    except BaseException:
        # A signal that comes while the package draws may keep it from giving the screen back.
        app.output.quit_alternate_screen()
        app.output.show_cursor()
        app.output.flush()
        raise
    view.watching.wait(0.0)  # raises what a thread failed with


def _end_if_over(view: LiveView, app: Application[Any]) -> None:
    if (view.is_over or view.watching.is_over) and app.is_running and not app.is_done:
        app.exit()


def _text(view: LiveView, app: Application[None]) -> StyleAndTextTuples:
    size = app.output.get_size()
    with view.watching.lock:
        lines = view.lines(size.columns, size.rows)
    text: StyleAndTextTuples = []
    for number, line in enumerate(lines):
        if number:
            text.append(("", "\n"))
        text += [(f"class:{style}" if style else "", part) for style, part in line]
    return text
