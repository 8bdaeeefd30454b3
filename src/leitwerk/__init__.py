"""Check, upload and verify the setup of measuring devices, from one text file.

The whole thread in a few lines::

    import leitwerk

    setup = leitwerk.read_setup("kiln.yaml")           # SetupError lists every finding
    with leitwerk.connect(setup) as device:
        receipt = leitwerk.upload(setup, device, keep="kept", passwords={"operator": "..."})
        report = leitwerk.verify(setup, device, duration_s=5, rate_hz=2)
    print(receipt, report, sep=chr(10))

Names are loaded when they are first used, so that importing the package costs next to nothing.
"""

import lazy_loader as lazy

__version__ = "0.1.0"
__getattr__, __dir__, __all__ = lazy.attach_stub(__name__, __file__)
