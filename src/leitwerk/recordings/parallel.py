"""Summaries on several processes or machines, by Dask: the channels are divided, each part read by itself."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

from leitwerk.check.channels import CheckedChannel, DerivedChannel
from leitwerk.check.checked import CheckedSetup
from leitwerk.errors import FileProblem
from leitwerk.evaluation.summary import Summary
from leitwerk.project.setups import read_setup
from leitwerk.recordings.store import Store

_ROWS = 1_000_000


def summarise_with_dask(
    store: Store,
    device: str,
    setup: CheckedSetup | None = None,
    *,
    parts: int = 2,
    rows: int = _ROWS,
    span: Mapping[str, Any] | None = None,
    **compute: Any,
) -> Summary:
    """The same as ``Store.summarise``, worked by Dask: the numbers are the same.

    The channels are divided into parts, each with the channels that it needs; each part is read from the
    files with the memory of a piece. The workers have to see the folder of the store, and the setup file.

    Parameters
    ----------
    store : Store
    device : str
        Its serial number.
    setup : CheckedSetup, optional
        Read from a file; with its derived channels, alarms and bands.
    parts : int
        Into so many parts the channels are divided.
    rows : int
        Of a piece.
    span : mapping, optional
        As for ``Store.summarise``.
    **compute
        For ``dask.compute``: ``scheduler="processes"``, ``num_workers=2``; with a client of
        ``dask.distributed``, nothing.

    Raises
    ------
    FileProblem
        The package is not there, or there are no such rows.

    """
    try:
        from dask.base import compute as work_out  # noqa: PLC0415 - an optional package, and large
        from dask.delayed import delayed  # noqa: PLC0415
    except ImportError:
        raise FileProblem(
            "this needs the package dask", remedy="pip install 'leitwerk[dask]', or use summarise"
        ) from None
    held = list(dict.fromkeys(name for part in store.parts(device) for name in part.columns))
    if not held:
        raise FileProblem(f"{store.root} has no rows of {device}", remedy="fetch them first")
    channels = () if setup is None else setup.channels
    groups = _groups(held, channels, max(1, parts))
    file = "" if setup is None else setup.setup.source.file
    work: Any = delayed(_summarise_part)
    tasks = [
        work(str(store.root.resolve()), device, sorted(group), file and str(Path(file).resolve()), rows,
             dict(span or {}))
        for group in groups
    ]  # fmt: skip
    gather: Any = work_out
    found: Sequence[Summary] = gather(*tasks, **compute)
    return _joined(found, held, channels)


def _summarise_part(
    root: str, device: str, names: list[str], file: str, rows: int, span: dict[str, Any]
) -> Summary:
    """What a worker does: the summary of some channels."""
    setup = read_setup(file) if file else None
    return Store(root).summarise(device, names, setup, rows=rows, span=span)


def _groups(held: Sequence[str], channels: Sequence[CheckedChannel], parts: int) -> list[set[str]]:
    """The columns of each part; those that are compared, or computed from each other, stand together."""
    groups = {name: {name} for name in held}
    for channel in channels:
        near = {alarm.other for alarm in channel.alarms if alarm.other} | {channel.name}
        if isinstance(channel, DerivedChannel):
            near |= {*channel.inputs}
        joined = set().union(*(groups[name] for name in near if name in groups))
        for name in joined:
            groups[name] = joined
    single = {id(group): group for group in groups.values()}.values()
    found: list[set[str]] = [set() for _ in range(min(parts, len(single)))]
    for group in sorted(single, key=len, reverse=True):
        min(found, key=len).update(group)
    return found


def _joined(
    found: Sequence[Summary], held: Sequence[str], channels: Sequence[CheckedChannel]
) -> Summary:
    """The parts as one, with the channels in their order."""
    order = [*held, *(channel.name for channel in channels if channel.name not in held)]
    known = {channel.name: channel for part in found for channel in part.channels}
    first = found[0]
    return Summary(
        first.begin_s, first.end_s, first.rows, first.interval_s, first.gaps,
        tuple(known[name] for name in order if name in known),
    )  # fmt: skip
