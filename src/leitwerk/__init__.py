"""Check, upload and verify the setup of measuring devices, from one text file.

The whole thread in a few lines::

    import leitwerk

    checked = leitwerk.read_setup("kiln.yaml")         # SetupError lists every finding
    options = leitwerk.UploadOptions("kept", passwords={"operator": "..."})
    with leitwerk.connect(checked) as device:
        receipt = leitwerk.upload(checked, device, options)
        report = leitwerk.verify(checked, device, duration_s=5, period_s=0.5)
    print(receipt, report, sep=chr(10))

Names are loaded when they are first used, so that importing the package costs next to nothing.
"""

import lazy_loader as lazy

__version__ = "0.1.0"
__getattr__, __dir__, __all__ = lazy.attach_stub(__name__, __file__)
