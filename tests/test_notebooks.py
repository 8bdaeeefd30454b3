"""The notebooks of the documentation run from top to bottom, and hold what they print."""

from pathlib import Path

import nbformat
import pytest
from nbclient import NotebookClient

from conftest import ROOT

NOTEBOOKS = sorted((ROOT / "docs" / "notebooks").glob("*.ipynb"))


@pytest.mark.process
@pytest.mark.parametrize("file", NOTEBOOKS, ids=lambda f: f.stem)
def test_a_notebook_runs(file, tmp_path, monkeypatch):
    monkeypatch.setenv("JUPYTER_PREFER_ENV_PATH", "1")
    monkeypatch.setenv("IPYTHONDIR", str(tmp_path / "ipython"))
    book = nbformat.read(file, as_version=4)
    held = [bool(cell.outputs) for cell in book.cells if cell.cell_type == "code"]
    NotebookClient(book, timeout=120, resources={"metadata": {"path": str(tmp_path)}}).execute()
    cells = [cell for cell in book.cells if cell.cell_type == "code"]
    assert [bool(cell.outputs) for cell in cells] == held, "run it anew, and keep what it prints"
    assert not [out for cell in cells for out in cell.outputs if out.output_type == "error"]


def test_there_are_notebooks_and_none_names_a_folder_of_its_author():
    assert len(NOTEBOOKS) == 3
    texts = "".join(f.read_text("utf-8") for f in NOTEBOOKS)
    assert [word for word in ("/tmp", str(Path.home())) if word in texts] == []
