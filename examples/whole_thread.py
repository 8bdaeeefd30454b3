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

checked = leitwerk.read_setup("kiln.yaml")
options = leitwerk.UploadOptions("kept", {"operator": "1834"})
with leitwerk.connect(checked) as device:
    receipt = leitwerk.upload(checked, device, options)
    report = leitwerk.verify(checked, device, duration_s=2, period_s=0.2)
print(receipt)
print(report)

logger.stop()
