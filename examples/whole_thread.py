"""The whole thread in Python: a setup, a device, an upload, the proof.

Needs no device: it starts the simulated logger that ships with Leitwerk. Run it anywhere:

    python examples/whole_thread.py
"""

from importlib import resources
from pathlib import Path

import leitwerk

# A setup to start from; its address is changed to that of the simulated logger.
logger = leitwerk.start_standin("fichte-8")
text = (resources.files("leitwerk") / "examples" / "kiln.yaml").read_text(encoding="utf-8")
text = text.replace("modbus+tcp://127.0.0.1:5020?unit=3", str(logger.address))
Path("kiln.yaml").write_text(text, encoding="utf-8")

setup = leitwerk.read_setup("kiln.yaml")
with leitwerk.connect(setup) as device:
    receipt = leitwerk.upload(setup, device, keep="kept", passwords={"operator": "1834"})
    report = leitwerk.verify(setup, device, duration_s=2, rate_hz=5)
print(receipt)
print(report)

logger.stop()
