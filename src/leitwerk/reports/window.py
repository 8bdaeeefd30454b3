"""A figure in a window, where there is a screen."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from leitwerk.errors import FileProblem

if TYPE_CHECKING:
    from matplotlib.figure import Figure


_SIZE_PX = (1280, 850)


def show_figure(
    figure: Figure, title: str, redraw: Callable[[], bool] | None = None, every_s: float = 1.0
) -> None:
    """Show a figure until its window is closed.

    Parameters
    ----------
    figure : Figure
    title : str
    redraw : callable, optional
        Called again and again: it draws the figure anew, and gives False to close the window.
    every_s : float, in s

    Raises
    ------
    FileProblem
        There is no screen, or Python has no Tk.

    """
    try:
        import tkinter as tk  # noqa: PLC0415 - not everywhere, and only here

        from matplotlib.backends import backend_tkagg  # noqa: PLC0415

        root = tk.Tk()
    except (ImportError, RuntimeError) as error:
        raise _no_window(error) from None
    except Exception as error:
        if type(error).__name__ != "TclError":  # its class is only there where Tk is
            raise
        raise _no_window(error) from None
    root.title(title)
    width, height = _SIZE_PX
    width = min(width, root.winfo_screenwidth())
    height = min(height, root.winfo_screenheight())
    root.geometry(f"{width}x{height}")
    canvas = backend_tkagg.FigureCanvasTkAgg(figure, master=root)  # type: ignore[no-untyped-call]
    bar = backend_tkagg.NavigationToolbar2Tk(canvas, root, pack_toolbar=False)  # type: ignore[attr-defined,no-untyped-call]
    bar.pack(side="bottom", fill="x")
    canvas.get_tk_widget().pack(fill="both", expand=True)  # type: ignore[no-untyped-call]

    def again() -> None:
        assert redraw is not None
        if not redraw():
            root.destroy()
            return
        canvas.draw_idle()  # type: ignore[no-untyped-call]
        root.after(round(every_s * 1000), again)

    if redraw is not None:
        again()
    root.mainloop()


def _no_window(error: Exception) -> FileProblem:
    return FileProblem(
        f"there is no window: {str(error)[:100]}",
        remedy="draw it into a file; a window needs a screen, and Python with Tk",
    )
