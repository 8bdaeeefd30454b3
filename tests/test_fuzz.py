"""A short run of ``make fuzz``: every reader, with real examples that were changed by chance."""

import math

import fuzz as tool
import pytest


@pytest.mark.hypothesis
def test_every_reader_reads_or_refuses(tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    for name, reader in tool.readers(tmp_path).items():
        inputs = max(20, round(600 * min(1.0, 4 * reader.share)))
        done, troubles = tool.fuzz(name, reader, inputs, math.inf, 7, tmp_path / "kept")
        assert (done, troubles) == (inputs, [])
        well = [seed for seed in reader.seeds if not refused(reader, seed)]
        assert well, f"no example of {name} is read at all"


def refused(reader, seed):
    try:
        reader.read(seed)
    except tool.lw.LeitwerkError:
        return True
    return False
