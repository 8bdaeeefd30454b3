"""One writer for each device: for every user of the machine, and until a process ends."""

import sys

import pytest

import leitwerk as lw
from leitwerk.identity import Identity
from leitwerk.project.locks import only_writer

DEVICE = Identity("Tannried", "fichte-8", "K2-00417", "1.0")


@pytest.mark.skipif(sys.platform != "linux", reason="other systems lock by a file of the user")
def test_another_user_of_the_machine_is_another_writer(tmp_path, monkeypatch):
    monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "ida"))
    with only_writer(DEVICE, 0.0):
        monkeypatch.setenv("XDG_DATA_HOME", str(tmp_path / "paul"))
        with pytest.raises(lw.DeviceInUse), only_writer(DEVICE, 0.06):
            pass
        with only_writer(Identity("Tannried", "fichte-8", "K2-00418", "1.0"), 0.0):
            pass
    with only_writer(DEVICE, 0.0):
        pass
