"""The bench a study describes: this machine, with the study's names, offsets, instruments, programs."""

from collections.abc import Mapping
from pathlib import Path

from gelassen.bench.adjusted import AdjustedBench
from gelassen.bench.described import ChannelSpec, described_sensors, split_command
from gelassen.bench.machine import MachineBench
from gelassen.study.file.study_file import ChannelTable, StudyFile


def study_bench(
    study: StudyFile | None, *, sysfs: Path | None = None
) -> MachineBench | AdjustedBench:
    """Return this machine as the study describes it, or unchanged without a study.

    Raises
    ------
    InputError
        A channel that the machine does not have, or a unit that does not fit.
    """
    if study is None or not study.channels:
        return MachineBench(sysfs=sysfs)
    specs = channel_specs(study.channels)
    return AdjustedBench(MachineBench(sysfs=sysfs, extra=described_sensors(specs)), specs)


def channel_specs(tables: Mapping[str, ChannelTable]) -> dict[str, ChannelSpec]:
    """Return the tables of a study file in the form that a bench needs."""
    return {
        name: ChannelSpec(
            origin=table.origin,
            resource=table.resource,
            query=table.query,
            backend=table.backend,
            command=split_command(table.command or "", f'channels."{name}".command'),
            pattern=table.pattern,
            unit=table.unit,
            timeout_s=table.timeout,
            scale=table.scale,
            offset=table.offset,
        )
        for name, table in tables.items()
    }
