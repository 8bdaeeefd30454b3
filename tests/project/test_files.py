"""Files are written whole, and stay what they were: mode, link, name."""

import pytest

import leitwerk as lw
from leitwerk.project.editing import with_values
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


def test_an_edit_leaves_every_other_scalar_as_it_was_typed():
    """A number, a date or a telephone number is a text: nothing writes it in another form."""
    text = (
        "title: 2026-01-02      # a date\n"
        "device: {serial: 00417, at: 0x10}\n"
        "contacts: {a: {text_message: +491700000001}}\n"
        "empty: ~\n"
        "settings:\n"
        "  name: 12E400\n  other: 1_000\n  oct: 0o17\n  yes: no\n  long: 1.50\n  q: 'a'   # c\n"
    )
    edited = with_values(text, {("settings", "q"): "1e5", ("settings", "new"): "+49"})
    assert edited == text.replace("'a'   # c", "'1e5' # c") + "  new: +49\n"
