"""Files are written whole, and stay what they were: mode, link, name."""

import pytest

import leitwerk as lw
from leitwerk.project.files import remove_file, write_atomic


def test_a_file_keeps_its_mode_and_a_link_leads_to_the_new_content(tmp_path):
    real, link = tmp_path / "real" / "kiln.yaml", tmp_path / "kiln.yaml"
    write_atomic(real, "old")
    real.chmod(0o640)
    link.symlink_to(real)
    write_atomic(link, "new")
    assert link.is_symlink()
    assert (real.read_text("utf-8"), real.stat().st_mode & 0o777) == ("new", 0o640)
    assert [p.name for p in real.parent.iterdir()] == ["kiln.yaml"]
    remove_file(real)
    remove_file(real)


def test_what_cannot_be_written_is_an_error_and_loses_nothing(tmp_path):
    path, ring = tmp_path / "x.json", tmp_path / "ring"
    write_atomic(path, "old")
    ring.symlink_to(ring)
    for where, text in ((path, "\ud800"), (ring, "x"), (path / "y", "x")):
        with pytest.raises(lw.FileProblem, match="cannot write"):
            write_atomic(where, text)
    assert path.read_text("utf-8") == "old"
