"""Files that Leitwerk wrote and that somebody spoilt: each is read or refused, and never a traceback."""

import copy
import json
import shutil
from pathlib import Path

import pytest
from hasel import Hasel
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from scenes import HASEL

import leitwerk as lw

HERE = Path(__file__).parent
# What a node of a file is replaced by. Texts stand for themselves; the rest is JSON as it is written.
ODD = (
    "null", "true", "-1", "1e999", "-1e999", "NaN", "1e308", "5e-324", "9" * 400, '""', '"\\ud800"',
    '"\\u0000"', '"[/]"', '"../../x"', '"' + "x" * 5000 + '"', "[]", "{}", "[" * 3000 + "]" * 3000,
    '{"a": {"b": [1]}}', "3.5", "70012",
)  # fmt: skip


def places(node, way=()):
    yield way
    inside = (
        node.items()
        if isinstance(node, dict)
        else enumerate(node)
        if isinstance(node, list)
        else ()
    )
    for key, value in inside:
        yield from places(value, (*way, key))


def spoilt(document, way, odd):
    """The document as text, with something else at a place."""
    mark = "\x01here\x01"
    if not way:
        return odd
    changed = copy.deepcopy(document)
    node = changed
    for key in way[:-1]:
        node = node[key]
    node[way[-1]] = mark
    return json.dumps(changed).replace(json.dumps(mark), odd)


def is_other(text, document):
    try:
        return json.loads(text) != document
    except (ValueError, RecursionError):
        return True


@pytest.fixture(scope="module")
def written(tmp_path_factory):
    """The files of an interrupted upload, and a device behind a port."""
    folder = tmp_path_factory.mktemp("written")
    with pytest.MonkeyPatch.context() as patch, Hasel() as device:
        patch.chdir(folder)
        (folder / "datasheets").mkdir()
        shutil.copy(HERE / "hasel.yaml", folder / "datasheets" / "hasel.yaml")
        Path("weir.yaml").write_text(
            HASEL.setup.format(at=HASEL.at.format(port=device.port)), "utf-8"
        )
        setup = lw.read_setup("weir.yaml")
        with lw.connect(setup) as link:
            lw.upload(setup, link, lw.UploadOptions("kept", {}))
            receipt = next(Path("kept").glob("*/*-receipt.json"))
            device.holding[18] = 0
            device.cut_at = device.requests + 8
            with pytest.raises(lw.LeitwerkError):
                lw.upload(setup, link, lw.UploadOptions("kept", {}))
            device.cut_at = 0
        journal = next(Path("kept").glob("*/journal.json"))
        yield {"folder": folder, "device": device, "journal": journal, "receipt": receipt}


FEW = settings(suppress_health_check=[HealthCheck.function_scoped_fixture], deadline=None)


@FEW
@given(data=st.data())
@pytest.mark.parametrize("kind", ["journal", "receipt", "backup"])
def test_a_spoilt_file_is_read_or_refused(written, leitwerk, monkeypatch, kind, data):
    monkeypatch.chdir(written["folder"])
    device = written["device"]
    path = Path("backup.json") if kind == "backup" else written[kind]
    original = HASEL.backup if kind == "backup" else path.read_text("utf-8")
    document = json.loads(original)
    way = data.draw(st.sampled_from(list(places(document))))
    text = spoilt(document, way, data.draw(st.sampled_from(ODD)))
    before, unreadable = dict(device.holding), {9, 10, 11, 12, 13, 14, 15, 16, 17}
    where = f"modbus+tcp://127.0.0.1:{device.port}?unit=1"
    try:
        path.write_text(text, "utf-8")
        if kind == "backup":
            result = leitwerk("restore", str(path), where, "--folder", "other")
        elif kind == "journal":
            result = leitwerk("recover", "weir.yaml", "--undo")
            if is_other(text, document):  # its digest does not fit any more
                assert result.exit_code == 2, result.output
                assert device.holding == before
        else:
            result = leitwerk("history", "weir.yaml")
            leitwerk("device", "weir.yaml")
        assert result.exit_code in {0, 1, 2, 3, 4}
        assert {k: v for k, v in device.holding.items() if k in unreadable} == {
            k: v for k, v in before.items() if k in unreadable
        }
    finally:
        path.write_text(original, "utf-8")
        device.holding.update(before)
