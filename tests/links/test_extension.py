"""A package brings a protocol of its own: one entry point, and everything works with it."""

import sys
import textwrap

import pytest

import leitwerk as lw
from leitwerk.devices.device import open_device
from leitwerk.parsing.address import parse_address

MODULE = '''
    """Devices that are files: a line 'name = value' for each point."""

    import pathlib

    from leitwerk.links import LinkKind


    class FileLink:
        def __init__(self, address):
            self.address, self.path = address, pathlib.Path(address.serial_port)

        def close(self):
            pass


    class FileSession:
        def __init__(self, link, datasheet):
            self.path = link.path

        def _lines(self):
            return dict(line.split(" = ") for line in self.path.read_text().splitlines())

        def read(self, points):
            lines = self._lines()
            return {p.name: p.decode(lines[p.query]) for p in points}

        def reader(self, points):
            import numpy

            return lambda: numpy.array([p.number(self._lines()[p.query]) for p in points])

        def write(self, values, progress=None, **how):
            lines = self._lines()
            lines |= {p.write.partition(" ")[0]: p.encode(v) for p, v in values.items()}
            self.path.write_text("".join(f"{k} = {v}\\n" for k, v in lines.items()))
            return 1


    KIND = LinkKind(lambda at, sheet, options: FileLink(at), FileSession)
    NOT_A_KIND = 7
'''
SHEET = """
datasheet: 1
model: slate
maker: Somebody
summary: A device that is a file
link: slate
identity: {model: {query: MODEL, type: text}, serial: {query: SERIAL, type: text}}
readings: {depth: {query: DEPTH, step: 0.1, unit: m}}
settings: {zero: {query: ZERO, write: "ZERO {}", step: 0.1, unit: m}}
"""


@pytest.fixture
def package(tmp_path, monkeypatch):
    (tmp_path / "slate_link.py").write_text(textwrap.dedent(MODULE), "utf-8")
    info = tmp_path / "slate_link-1.0.dist-info"
    info.mkdir()
    (info / "METADATA").write_text("Metadata-Version: 2.1\nName: slate-link\nVersion: 1.0\n")
    (info / "entry_points.txt").write_text(
        "[leitwerk.links]\nslate = slate_link:KIND\nodd = slate_link:NOT_A_KIND\n"
    )
    (tmp_path / "datasheets").mkdir()
    (tmp_path / "datasheets" / "slate.yaml").write_text(SHEET)
    (tmp_path / "device.txt").write_text("MODEL = slate\nSERIAL = 12\nDEPTH = 1.5\nZERO = 0\n")
    monkeypatch.syspath_prepend(str(tmp_path))
    monkeypatch.chdir(tmp_path)
    yield tmp_path
    sys.modules.pop("slate_link", None)


def test_a_protocol_of_a_package_works_like_the_others(package, leitwerk):
    setup = package / "setup.yaml"
    setup.write_text(
        f"leitwerk: 1\ntitle: Slate\ndevice: {{model: slate, at: 'slate+serial://{package}/device.txt'"
        ", serial: 012}\nchannels: {depth: {reading: depth, expect: 1.5 ± 0.1 m}}\n"
        "settings: {zero: 0.3 m}\n"
    )
    assert leitwerk("datasheet", "slate").exit_code == 0
    assert leitwerk("check", str(setup)).exit_code == 0
    assert leitwerk("upload", str(setup)).exit_code == 0
    assert "ZERO = 0.3" in (package / "device.txt").read_text()
    assert "PASSED" in leitwerk("live", str(setup), "--for", "0.2 s").stdout


def test_what_nothing_speaks_is_said(package, leitwerk):
    sheet = package / "datasheets" / "slate.yaml"
    sheet.write_text(SHEET.replace("link: slate", "link: slatte"))
    result = leitwerk("datasheet", str(sheet))
    assert "6:7: error: unknown protocol 'slatte'" in result.stderr
    assert "modbus, scpi, sdi12, text, mqtt, drive, talk, slate" in result.stderr
    sheet.write_text(SHEET.replace("link: slate", "link: odd"))
    tried = leitwerk("datasheet", str(sheet), "--try", "odd+tcp://127.0.0.1:9")
    assert "must lead to a leitwerk.links.LinkKind" in tried.stderr
    odd = lw.parse_datasheet(sheet.read_text(), further=lambda: ["odd"])
    with pytest.raises(lw.QuantityError, match="speaks odd, the address"):
        open_device(odd, parse_address("modbus+tcp://127.0.0.1"))


def test_a_package_that_cannot_be_loaded_is_named(package, leitwerk):
    """Whatever it raises: the command ends with words, and nothing else is affected."""
    (package / "slate_link.py").write_text("raise RuntimeError('no licence')", "utf-8")
    sheet = package / "datasheets" / "slate.yaml"
    tried = leitwerk("datasheet", str(sheet), "--try", f"slate+serial://{package}/device.txt")
    assert tried.exit_code == 2
    assert "the package that adds the protocol 'slate' cannot be loaded" in tried.stderr
    assert "RuntimeError: no licence" in tried.stderr
    assert "its entry point is 'slate_link:KIND'" in tried.stderr
