"""`gelassen channels`: which channels this machine has, and what each one means."""

import json
import math
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from gelassen.commands.shared.common import (
    Duration,
    emit,
    format_option,
    say,
    status_line,
    sysfs_option,
)

if TYPE_CHECKING:
    from gelassen.bench import Actuator, Bench
    from gelassen.bench.simulated import SimulatedBench


# How long probes at one place are read, in s.
_TOGETHER_S = 300.0


@dataclass(frozen=True, slots=True, kw_only=True)
class ChannelsOptions:
    """What `gelassen channels` was asked."""

    sysfs: Path | None
    study: Path | None
    probe: bool
    together: tuple[str, ...]
    true: str | None
    duration: float | None
    run: Path | None
    store: bool
    sweep: bool
    fan: tuple[str, ...]
    noise: bool
    figure: Path | None
    simulate: bool
    form: str


@click.command()
@sysfs_option
@click.option(
    "--study",
    type=click.Path(path_type=Path),
    default=None,
    help="Use the names, offsets, instruments and programs of this study.",
)
@click.option(
    "--probe",
    is_flag=True,
    help="Idle, load and idle the machine, and say which channels respond, how fast and how coarse.",
)
@click.option(
    "--together",
    multiple=True,
    metavar="CHANNEL",
    help="Probes at one place: find their offsets. Once for each probe.",
)
@click.option("--true", default=None, metavar="CHANNEL", help="The probe that is trusted.")
@click.option(
    "--for",
    "duration",
    type=Duration(),
    default=None,
    help="How long the probes are read, 5 min; or how long the load of --probe lasts, 40 s.",
)
@click.option(
    "--run",
    type=click.Path(path_type=Path),
    default=None,
    help="Take the readings of this run instead of new ones.",
)
@click.option(
    "--sweep",
    is_flag=True,
    help="At rest, step the duty of each fan: which fan it drives, where it stops and starts.",
)
@click.option("--fan", multiple=True, metavar="DUTY", help="Sweep only this duty. Once for each.")
@click.option("--noise", is_flag=True, help="During a sweep, ask how loud each duty is.")
@click.option(
    "--figure", type=click.Path(path_type=Path), default=None, help="Draw the sweep here."
)
@click.option("--store", is_flag=True, help="Write offsets, or a sweep, into the study file.")
@click.option("--simulate", is_flag=True, help="Ask the simulated bench instead of this machine.")
@format_option
def channels(**given: Any) -> None:
    """List what this machine offers, and what is missing."""
    asked = ChannelsOptions(**given)
    from gelassen.conduct.study_bench import study_bench
    from gelassen.core.foundation.errors import InputError
    from gelassen.study.file.reader import read_study_file
    from gelassen.study.file.study_file import STUDY_FILE

    known = read_study_file(asked.study / STUDY_FILE) if asked.study is not None else None
    if asked.store and (asked.study is None or not (asked.together or asked.sweep)):
        raise InputError(
            "--store writes offsets or a sweep into a study: add --study FOLDER, and --together or --sweep"
        )
    _only_together(asked)
    if asked.simulate and asked.store and known is not None and not known.made_up:
        raise InputError(
            "--simulate would store a made-up sweep, and this study is not marked so: write made_up = true "
            "in its study.toml, or leave --store out"
        )
    if asked.together:
        _together(known, asked)
        return
    if asked.run is not None and asked.probe:
        _probed_run(asked.run, asked.form)
        return
    bench = _simulated(asked.form) if asked.simulate else study_bench(known, sysfs=asked.sysfs)
    if asked.sweep:
        from gelassen.commands.fan_sweep import sweep

        sweep(
            bench, asked.fan, noise=asked.noise, figure=asked.figure,
            store=asked.study if asked.store else None, form=asked.form, made_up=asked.simulate,
        )  # fmt: skip
        return
    if asked.probe:
        from gelassen.conduct.probing import probe_channels

        load_s = asked.duration or 40.0
        say(f"probing for {load_s + 40:.0f} s: idle, load, idle; Ctrl-C ends it")
        with status_line() as progress:
            found = probe_channels(bench, load_s=load_s, progress=progress)
        _print_probe(found, {info.name: info.what for info in bench.channels()}, asked.form)
        return
    wait_s = 0.5 if asked.sysfs is None else 0.0
    _list(bench, asked.form, wait_s=wait_s, made_up=asked.simulate)


def _only_together(asked: ChannelsOptions) -> None:
    from gelassen.core.foundation.errors import InputError

    given = {"--fan": asked.fan, "--noise": asked.noise, "--figure": asked.figure}
    lacking = [option for option, value in given.items() if value]
    if lacking and not asked.sweep:
        raise InputError(f"{lacking[0]} belongs to a sweep: add --sweep")
    if asked.simulate and (asked.together or asked.run is not None or asked.sysfs is not None):
        raise InputError("--simulate is for the list, --probe and --sweep: leave it out")
    if asked.sweep and (asked.probe or asked.together or asked.run is not None):
        raise InputError("--sweep is asked alone, without --probe, --together and --run")


def _simulated(form: str) -> "SimulatedBench":
    from gelassen.bench.simulated import COOLERS, CURVES, SimulatedBench

    # Beside a table for programs, the words go to where messages go.
    tell = emit if form == "text" else say
    tell("made-up sample data: a simulated bench, not this machine")
    return SimulatedBench(cooler=COOLERS["Brise 120"], curve=CURVES["on-air"])


def _list(bench: "Bench", form: str, *, wait_s: float, made_up: bool) -> None:
    from gelassen.core.recording.channels import parse_channel
    from gelassen.show.channel_table import channels_text
    from gelassen.show.numbers import digits_of, fixed
    from gelassen.show.tables import table_in

    bench.read()
    bench.sleep(wait_s)  # power and load need two readings
    values = bench.read()
    infos = list(bench.channels())
    told = getattr(bench, "missing", None)  # a simulated bench lacks nothing
    lacking = [] if told is None else told()
    settable = [_setting(name, actuator) for name, actuator in bench.actuators().items()]
    if form == "json":
        content = [
            {
                "channel": i.name, "value": None if math.isnan(v := values.get(i.name, math.nan)) else v,
                "what": i.what, "source": i.source, "resolution": i.resolution,
                "readable": i.readable, "problem": i.problem, "limits": dict(i.limits),
            }
            for i in infos
        ]  # fmt: skip
        missing = [{"what": what, "why": why} for what, why in lacking]
        keys = ("channel", "value", "range", "what")
        found = {
            "made_up": made_up,
            "channels": content,
            "settable": [dict(zip(keys, row, strict=True)) for row in settable],
            "missing": missing,
        }
        emit(json.dumps(found, indent=2, ensure_ascii=False))
        return
    rows = []
    for info in infos:
        channel = parse_channel(info.name)
        digits = digits_of(channel.unit)
        value = values.get(info.name, math.nan)
        step = "" if info.resolution is None else f"{info.resolution:g}"
        limits = ", ".join(
            f"{name} {limit:g} {channel.symbol}" for name, limit in info.limits.items()
        )
        what = f"{info.what}; {limits}" if limits else info.what
        rows.append((info.name, fixed(value, digits, channel.symbol), step, what, info.problem))
    if form == "text":
        emit(channels_text(rows, settable, lacking))
        return
    header = ("channel", "now", "step", "what it is", "problem")
    emit(table_in(form, header, rows))


def _setting(name: str, actuator: "Actuator") -> tuple[str, str, str, str]:
    """Return name, present value, range and meaning of something that can be set."""
    from gelassen.core.recording.channels import parse_channel
    from gelassen.show.numbers import fixed

    symbol = parse_channel(name).symbol
    try:
        value = actuator.read()
    except (OSError, ValueError):
        value = math.nan
    span = f"{actuator.low:g} to {actuator.high:g} {symbol}".strip()
    return name, fixed(value, 1, symbol), span, actuator.what


def _probed_run(run: Path, form: str) -> None:
    from gelassen.conduct.probing import responses
    from gelassen.study import read_run

    recording = read_run(run)
    what = {name: origin.conversion for name, origin in recording.channels.items()}
    if recording.made_up and form == "text":
        emit("made-up sample data\n")
    _print_probe(responses(recording), what, form)


def _print_probe(found: Any, what: dict[str, str], form: str) -> None:
    from gelassen.core.foundation.result import plain
    from gelassen.show.channel_table import PROBE_HEADER, probe_rows, probe_text
    from gelassen.show.tables import table_in

    if form == "json":
        emit(json.dumps(plain(found), indent=2, ensure_ascii=False))
    elif form == "text":
        emit(probe_text(found, what))
    else:
        emit(table_in(form, PROBE_HEADER, probe_rows(found, what)))


def _together(known: Any, asked: ChannelsOptions) -> None:
    import tempfile

    from gelassen.conduct.planning.plan import PlannedPhase, RunPlan
    from gelassen.conduct.probing import check_probes, compare_probes
    from gelassen.conduct.recording import record_run
    from gelassen.conduct.study_bench import study_bench
    from gelassen.core.foundation.result import plain
    from gelassen.study import read_run
    from gelassen.study.disk.run_file import read_run_file
    from gelassen.study.disk.writer import RUN_JSON

    if asked.run is not None:
        recording = read_run(asked.run)
        entries = read_run_file(asked.run / RUN_JSON).channels
        present = {name: entry.offset for name, entry in entries.items()}
    else:
        bench = study_bench(known, sysfs=asked.sysfs)
        duration = asked.duration or _TOGETHER_S
        present = {info.name: info.offset for info in bench.channels() if info.readable}
        check_probes(asked.together, present, asked.true)  # before minutes are spent
        plan = RunPlan(phases=(PlannedPhase("idle", duration),))
        say(f"reading the probes for {duration:g} s; the machine is not loaded")
        with tempfile.TemporaryDirectory(prefix="gelassen-") as folder, status_line() as progress:
            made, _ = record_run(bench, plan, Path(folder), label="together", progress=progress)
            recording = read_run(made)
    offsets = compare_probes(recording, asked.together, true=asked.true)
    if asked.form == "json":
        emit(json.dumps(plain(offsets), indent=2, ensure_ascii=False))
    else:
        against = asked.true or "the mean of all"
        emit(f"to be added to each reading, against {against}, with 95 % intervals")
        for one in offsets:
            emit(f"  {one}")
        for one in offsets:
            for caution in one.cautions:
                emit(f"  caution: {caution}")
    if asked.store and asked.study is not None:
        from gelassen.study.file.edit import store_offsets

        stored = {
            one.channel: (present.get(one.channel, 0.0) + one.offset_k, one.standard_error_k)
            for one in offsets
        }
        store_offsets(asked.study, stored)
        say(f"stored in {asked.study / 'study.toml'}; runs from now on are recorded with them")
