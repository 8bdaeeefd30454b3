"""leitwerk levels."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from leitwerk.cli.options import JSON

if TYPE_CHECKING:
    from leitwerk.evaluation.sound import SoundLevels


@click.command()
@click.argument("setup")
@click.argument("recording")
@click.option("--full-scale", metavar="PRESSURE", help="What full scale is: '63 Pa'.")
@click.option(
    "--calibration",
    type=click.Path(path_type=Path),
    help="A recording of the calibrator, by which full scale is found.",
)
@click.option("--channel", type=click.IntRange(1, 64), default=1, show_default=True)
@click.option("--began", metavar="TIME", help="The time of the first sample (zone of the setup).")
@click.option("--to", "target", type=click.Path(path_type=Path), help="Write the rows: CSV.")
@JSON
def levels(
    setup: str,
    recording: str,
    *,
    full_scale: str | None,
    calibration: Path | None,
    channel: int,
    began: str | None,
    target: Path | None,
    as_json: bool,
) -> int:
    """Evaluate RECORDING, a WAV file of sound, by the section 'sound' of SETUP.

    When it began and what its full scale is are taken from the file, where a meter has written these.

    All evaluations are worked at once: equivalent level, exposure, maximum, minimum, peak, percentiles,
    bands. Rows that are outside the measuring range, or hold a sample that is not a number, are left out and
    counted. The exit code does not pass what no calibrator has verified before and after.

    Exit code 0: evaluated, and the calibrator passed. 1: it did not pass, or is unknown. 2: usage, or a file
    that cannot be used.
    """
    from leitwerk.cli.exit_codes import result_code
    from leitwerk.cli.options import began_s
    from leitwerk.cli.printing import echo_json
    from leitwerk.errors import QuantityError
    from leitwerk.evaluation.sound import evaluate_sound, full_scale_by_calibrator
    from leitwerk.parsing.quantities import parse_quantity
    from leitwerk.parsing.units import parse_unit
    from leitwerk.project.files import write_atomic
    from leitwerk.project.setups import read_setup
    from leitwerk.recordings.sound_files import open_samples

    parsed = read_setup(setup).setup
    sound = parsed.sound
    if sound is None:
        raise QuantityError(f"{setup} has no section 'sound'", valid="sound: {evaluations: …}")
    file = open_samples(recording)
    if full_scale is not None and calibration is not None:
        raise click.UsageError("say what full scale is: --full-scale, or --calibration")
    if calibration is not None:
        tone = open_samples(calibration)
        scale = full_scale_by_calibrator(sound, (b[:, 0] for b in tone.blocks()), tone.rate_hz)
    elif full_scale is None and not file.full_scale:
        raise click.UsageError("say what full scale is: --full-scale, or --calibration")
    else:
        stated = parse_quantity(full_scale) if full_scale else file.full_scale[0]
        scale = stated.value_in(parse_unit("Pa"))
    if not scale > 0.0:
        raise QuantityError(f"{full_scale or scale} is no sound pressure", valid="above 0 Pa")
    if channel > file.channels:
        raise QuantityError(f"{recording} has no channel {channel}", valid=f"1 to {file.channels}")
    blocks = (scale * block[:, channel - 1] for block in file.blocks())
    at = began_s(began, file.began, parsed.zone)
    found = evaluate_sound(sound, blocks, file.rate_hz, at)
    if target is not None:
        write_atomic(target, found.rows.csv())
    if as_json:
        echo_json({"full_scale_pa": scale, **found.to_dict()})
    else:
        _print(found, scale)
    return result_code(found.calibrated)


def _print(found: SoundLevels, scale: float) -> None:
    import math

    from leitwerk.cli.printing import print_columns

    count = found.rows.times_s.size
    click.echo(f"{count} rows, full scale {scale:.4g} Pa")
    for reason, left in found.left_out.items():
        click.echo(f"  left out: {left} ({reason})")
    by_name: dict[str, list[tuple[str, float]]] = {}
    for name, level in found.whole.items():
        evaluation, _, kind = name.partition(".")
        by_name.setdefault(evaluation, []).append((kind, level))
    for evaluation, levels in by_name.items():
        click.echo(evaluation)
        rows = [
            (f"  {kind.replace('_', ' ')}", f"{level:.1f} dB" if math.isfinite(level) else "none")
            for kind, level in levels
        ]
        print_columns(("  level", "over all"), rows)
    for note in found.notes:
        click.echo(f"note: {note}")
    click.echo(str(found.calibrated))
