"""A figure in a window, where there is a screen."""

from __future__ import annotations

from typing import TYPE_CHECKING

from leitwerk.errors import FileProblem

if TYPE_CHECKING:
    from matplotlib.figure import Figure


def show_figure(figure: Figure, title: str) -> None:
    """Show a figure until its window is closed.

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
    canvas = backend_tkagg.FigureCanvasTkAgg(figure, master=root)  # type: ignore[no-untyped-call]
    backend_tkagg.NavigationToolbar2Tk(canvas, root)  # type: ignore[attr-defined,no-untyped-call]
    canvas.get_tk_widget().pack(fill="both", expand=True)  # type: ignore[no-untyped-call]
    root.mainloop()


def _no_window(error: Exception) -> FileProblem:
    return FileProblem(
        f"there is no window: {str(error)[:100]}",
        remedy="the figure is in its file; a window needs a screen, and Python with Tk",
    )
