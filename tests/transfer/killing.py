"""Kills the uploading process at every single request, and recovers: run by test_recover.py.

A program of its own, since it forks: python killing.py SETUP PASSWORD. Prints the number of cuts.
"""

import itertools
import os
import signal
import sys
import tempfile
from datetime import UTC, datetime
from pathlib import Path

import leitwerk as lw
from leitwerk.links.modbus import ModbusLink
from leitwerk.transfer.receipt import KeptFiles
from leitwerk.transfer.recover import unfinished


def upload_and_die(checked, keep, passwords, at):
    """In a child: upload, and be killed when request number ``at`` is about to be sent."""
    real, count = ModbusLink._ask, itertools.count()

    def ask(self, *args, **more):
        if next(count) == at:
            os.kill(os.getpid(), signal.SIGKILL)
        return real(self, *args, **more)

    ModbusLink._ask = ask
    with lw.connect(checked) as device:
        lw.upload(checked, device, lw.UploadOptions(keep, passwords))


def main(path, password):
    checked, passwords = lw.read_setup(path), {"operator": password}
    with lw.connect(checked) as device:
        old, identity = device.read_settings(), device.identify()
    new = {**old.values, **checked.settings.values}
    start = KeptFiles.at(Path(tempfile.mkdtemp()), identity.serial, datetime.now(UTC))
    backup = start.write_backup(old, identity, datetime.now(UTC))
    for cut in itertools.count():
        keep = tempfile.mkdtemp()
        child = os.fork()
        if child == 0:
            upload_and_die(checked, keep, passwords, cut)
            os._exit(0)
        if os.waitpid(child, 0)[1] == 0:
            break
        with lw.connect(checked) as device:
            wanted = (old.values, new)
            try:
                journal = unfinished(keep, identity.serial)
            except lw.FileProblem:
                pass  # nothing was begun: then nothing is half
            else:
                undo = cut % 2 == 0
                lw.recover(journal, device, lw.UploadOptions(keep, passwords), undo=undo)
                wanted = (old.values if undo else new,)
            assert device.read_settings().values in wanted, f"half at cut {cut}"
            lw.restore(backup, device, lw.UploadOptions(keep, passwords))
    sys.stdout.write(f"{cut}\n")


if __name__ == "__main__":
    main(*sys.argv[1:])
