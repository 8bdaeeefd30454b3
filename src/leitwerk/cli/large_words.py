"""PASS and FAIL in letters that can be read from two metres."""

from __future__ import annotations

# Five rows of five columns each; a 1 is a filled cell.
_LETTERS = {
    "P": ("11110", "10001", "11110", "10000", "10000"),
    "A": ("01110", "10001", "11111", "10001", "10001"),
    "S": ("01111", "10000", "01110", "00001", "11110"),
    "F": ("11111", "10000", "11110", "10000", "10000"),
    "I": ("11111", "00100", "00100", "00100", "11111"),
    "L": ("10000", "10000", "10000", "10000", "11111"),
}
_ROWS = 5


def large(word: str, width: int) -> list[str]:
    """The lines of a word in large letters, as wide as a terminal allows, of full blocks.

    Parameters
    ----------
    word : str
        Of the letters of PASS and FAIL.
    width : int
        Columns of the terminal; from 24 on a word of four letters fits.

    """
    columns = 6 * len(word) - 1
    step = max(1, min(4, (width - 2) // columns))  # columns of a cell
    rows = max(1, step // 2)  # a character is about twice as high as wide
    lines = []
    for row in range(_ROWS):
        cells = "0".join(_LETTERS[letter][row] for letter in word)
        lines += ["".join(("█" if cell == "1" else " ") * step for cell in cells).rstrip()] * rows
    return lines
