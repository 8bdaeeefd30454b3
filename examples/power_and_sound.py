"""The threads of two analyzers in Python: a day of a supply, an hour of noise.

Needs no device: it starts the simulated ones that ship with Leitwerk, which go faster than the clock. Run it
anywhere:

    python examples/power_and_sound.py

'leitwerk demo --thread supply' and '--thread sound' do the same, one command for each step.
"""

import time
from importlib import resources
from pathlib import Path

import leitwerk
from leitwerk.evaluation.sound import evaluate_sound
from leitwerk.evaluation.waveforms import evaluate_waveforms, options_of, scaled
from leitwerk.recordings import RecordedWith, Store, fetch_files, fetch_new
from leitwerk.recordings.sound_files import open_samples

Passwords = dict[str, str]  # by role


# The simulated devices compute an hour of sound and a day of a net in seconds, and answer late meanwhile.
PATIENT = leitwerk.LinkOptions(timeout_s=20.0)


def prepare(analyzer: leitwerk.StandIn, name: str, password: Passwords) -> leitwerk.CheckedSetup:
    """Upload the setup of an example to a simulated device; the checked setup."""
    text = (resources.files("leitwerk") / "examples" / f"{name}.yaml").read_text(encoding="utf-8")
    lines = text.splitlines()
    at = next(k for k, line in enumerate(lines) if line.startswith("  at: "))
    lines[at] = f"  at: {analyzer.address}"
    Path(f"{name}.yaml").write_text("\n".join(lines) + "\n", encoding="utf-8")
    checked = leitwerk.read_setup(f"{name}.yaml")
    with leitwerk.connect(checked, link=PATIENT) as device:
        receipt = leitwerk.upload(checked, device, leitwerk.UploadOptions("kept", password))
    print(f"{checked}: {len(receipt.changes)} settings changed, all read back")
    return checked


def record_and_fetch(
    checked: leitwerk.CheckedSetup, hours: float, password: Passwords
) -> list[Path]:
    """Record for so many hours of the device's own time, and fetch all of it; the files beside the rows."""
    store = Store("recordings")
    with leitwerk.connect(checked, link=PATIENT) as device:
        leitwerk.control_recording(device, "start", passwords=password)
        while not any(
            held.rows * held.interval_s >= 3600.0 * hours
            for held in leitwerk.list_recordings(device)
        ):
            time.sleep(0.2)
        leitwerk.control_recording(device, "stop", passwords=password)
        for run in fetch_new(device, RecordedWith(device.read_settings(), checked), store):
            print(f"  recording {run}")
        serial = device.identify().serial
        return [file.path for file in fetch_files(device, store.files_folder(serial))]


def supply() -> None:
    """The wiring judged, a day recorded, the waveform of each event evaluated."""
    password = {"operator": "5206"}
    analyzer = leitwerk.start_standin("ulme-3p", "--time-factor", "20000")
    checked = prepare(analyzer, "saw-supply", password)
    with leitwerk.connect(checked, link=PATIENT) as device:
        wiring = leitwerk.check_wiring(checked, device, power="14 ± 3 kW", duration_s=2.0)
    print(f"  wiring {wiring.verdict.outcome}")
    for path in record_and_fetch(checked, 24.0, password):
        if path.suffix == ".wav":
            file = open_samples(path)
            options = options_of(checked.setup, None, rate_hz=file.rate_hz, count=file.channels)
            volts, amperes = (amount.value for amount in file.full_scale)
            found = evaluate_waveforms(options, scaled(file.blocks(), options, volts, amperes))
            for event in found.events:
                lasts = f"{1e3 * event.duration_s:.0f} ms"
                print(f"  {path.name}: {event.kind}, {lasts}, {event.extreme:.1f}")
    analyzer.stop()


def sound() -> None:
    """An hour recorded, and what the meter kept as sound evaluated by the library."""
    password = {"operator": "larch"}
    meter = leitwerk.start_standin("eibe", "--time-factor", "3000")
    checked = prepare(meter, "saw-hall", password)
    for path in record_and_fetch(checked, 1.0, password):
        file = open_samples(path)
        pascals = file.full_scale[0].value
        blocks = (pascals * block[:, 0] for block in file.blocks())
        assert checked.setup.sound is not None
        found = evaluate_sound(checked.setup.sound, blocks, file.rate_hz)
        print(f"  {path.name}: LAeq {found.whole['main.equivalent']:.1f} dB, {found.calibrated}")
    series = Store("recordings").read("SH-0093")
    print(f"  {leitwerk.summarise(series, checked.channels)}".splitlines()[0])
    meter.stop()


supply()
sound()
