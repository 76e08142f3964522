"""`gelassen import`: turns logs of other programs into runs."""

import shutil
import sys
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from gelassen.commands.shared.common import (
    FAILED,
    Duration,
    emit,
    give_figure,
    hint,
    pair,
    say,
    shell,
    study_at,
    tell,
)
from gelassen.commands.shared.room import in_room, room_option
from gelassen.core.foundation.counted import counted

if TYPE_CHECKING:
    from gelassen.core.recording.recording import Recording
    from gelassen.intake.merge import Joined
    from gelassen.intake.understanding import LogOptions, Understanding

_DECIMALS = {"point": ".", "comma": ","}
_LONG_BYTES = 20 << 20
_DELIMITERS = {"comma": ",", "semicolon": ";", "tab": "\t", "bar": "|"}


@dataclass(frozen=True, slots=True, kw_only=True)
class ImportOptions:
    """What `gelassen import` was asked."""

    files: tuple[Path, ...]
    study: Path | None
    setups: tuple[str, ...]
    new_setup: bool
    loads: tuple[str, ...]
    mount: str | None
    room: str | None
    limit_c: float | None
    pairs: tuple[str, ...]
    mapping: Path | None
    write_columns: Path | None
    encoding: str | None
    delimiter: str | None
    decimal: str | None
    dates: Any
    zone: str | None
    part: int | None
    load_start: float | None
    load_end: float | None
    hold: tuple[float, float] | None
    merge: bool | None
    every_load: bool
    offsets: tuple[str, ...]
    match: bool
    dry_run: bool
    yes: bool

    def check(self) -> None:
        """Refuse impossible requests before a long log is read in vain."""
        from gelassen.core.foundation.errors import InputError
        from gelassen.study.file.new_study import check_setup

        for path in self.files:
            if (study := study_at(path)) is not None:
                logs = " ".join(shell(one) for one in self.files if one != path) or "LOG"
                raise InputError(
                    f"{path} is a study, not a log. To take logs into it: "
                    f"gelassen import {logs} --study {shell(study)} --setup NAME"
                )
        only_looked_at = self.dry_run or self.write_columns is not None
        if not only_looked_at and (self.study is None or not self.setups):
            raise InputError(
                "say where it goes: --study FOLDER --setup NAME, or only look with --dry-run"
            )
        if len({path.resolve() for path in self.files}) < len(self.files):
            raise InputError("a file is named twice")
        told = (self.load_start, self.load_end, self.hold or None)
        if self.every_load and any(x is not None for x in told):
            raise InputError(
                "--every-load finds each load: leave --load-start, --load-end, --hold out"
            )
        if self.study is not None and not self.dry_run and _are_long(self.files):
            for setup in self.setups:
                check_setup(self.study, setup, limit_c=self.limit_c, new_setup=self.new_setup)

    def log_options(self) -> "LogOptions":
        """Return the user's options about the form of the logs."""
        from gelassen.intake.understanding import LogOptions

        return LogOptions(
            encoding=self.encoding,
            delimiter=_DELIMITERS.get(self.delimiter or ""),
            decimal=_DECIMALS.get(self.decimal or ""),  # type: ignore[arg-type]
            dates=self.dates,
            zone=self.zone,
            part=self.part,
            load_start_s=self.load_start,
            load_end_s=self.load_end,
            hold_s=self.hold or None,
            draft=self.write_columns is not None and (self.dry_run or self.study is None),
            beside=len(self.files) > 1 and self.merge is not False,
        )


# A run to be stored, and the logs it was read from.
Job = tuple["Recording", list[Path]]


@click.command("import")
@click.argument("files", nargs=-1, required=True, type=click.Path(path_type=Path))
@click.option("--study", type=click.Path(path_type=Path), default=None, help="Study; made if new.")
@click.option(
    "--setup", "setups", multiple=True, metavar="NAME",
    help="Setup that was on the bench; once for all runs, or once each in their order.",
)  # fmt: skip
@click.option("--new-setup", is_flag=True, help="The setup is new to this study.")
@click.option(
    "--load", "loads", multiple=True, metavar="NAME",
    help="Program that loaded the machine; once for all runs, or once each in their order.",
)  # fmt: skip
@room_option
@click.option("--mount", default=None, help="Which mounting: the same word, not remounted between.")
@click.option("--limit", "limit_c", type=float, default=None, help="Limit temperature, °C.")
@click.option(
    "--column", "pairs", multiple=True, metavar="HEADER=CHANNEL",
    help='Which column is which channel; "{n}" stands for a number, t_s is the time, mark says what ran, '
    'ignore is none.',
)  # fmt: skip
@click.option(
    "--columns", "mapping", type=click.Path(path_type=Path), default=None,
    help="TOML file with a section [columns] that says so.",
)  # fmt: skip
@click.option(
    "--write-columns", type=click.Path(path_type=Path), default=None, metavar="FILE",
    help="Write the recognised columns as such a file.",
)  # fmt: skip
@click.option("--encoding", default=None, help="Encoding of the file, such as utf-16 or latin-1.")
@click.option(
    "--delimiter", type=click.Choice(list(_DELIMITERS)), default=None, help="Between cells."
)
@click.option("--decimal", type=click.Choice(list(_DECIMALS)), default=None, help="Decimal mark.")
@click.option(
    "--dates", type=click.Choice(["ymd", "dmy", "mdy"]), default=None, help="Order in dates."
)
@click.option("--zone", default=None, help='Time zone of a local clock, such as "Europe/Vienna".')
@click.option(
    "--part", type=click.IntRange(1), default=None, help="Part of a log that was started again."
)
@click.option(
    "--load-start", type=Duration(), default=None, metavar="TIME", help="When the load began."
)
@click.option("--load-end", type=Duration(), default=None, metavar="TIME", help="When it ended.")
@click.option(
    "--hold",
    nargs=2,
    type=Duration(),
    default=None,
    metavar="FROM TO",
    help="The window that is measured.",
)
@click.option(
    "--merge/--each", "merge", default=None, help="Several logs: one run, or one run each."
)
@click.option("--every-load", is_flag=True, help="A log with rests between loads: one run a load.")
@click.option(
    "--offset", "offsets", multiple=True, metavar="FILE=SECONDS",
    help="How much later that log began than the first.",
)  # fmt: skip
@click.option("--match", is_flag=True, help="Align logs by their changes, not by their clocks.")
@click.option("--dry-run", is_flag=True, help="Only show what was understood.")
@click.option("-y", "--yes", is_flag=True, help="Do not ask before storing.")
def import_logs(**given: Any) -> None:
    """Take over logs of other programs: one run each, one run a load, or several logs merged.

    Shows what was understood before anything is stored.
    """
    from gelassen.intake.log import understand_log
    from gelassen.intake.split_loads import split_loads

    asked = ImportOptions(**given)
    asked.check()
    options, columns = asked.log_options(), _columns(asked.pairs, asked.mapping)
    # All are read before the first is stored, so that a mistake in the last stores nothing.
    understood = [
        (path, understand_log(path, columns=columns, options=options)) for path in asked.files
    ]
    for path, one in understood:
        tell(_words(path, one, every_load=asked.every_load))
    whole = _one_log(understood, asked, options)
    as_one = whole is not None or _as_one_run(
        understood, asked.merge, bool(asked.offsets) or asked.match
    )
    _need_named_columns(understood, asked, as_one=as_one)
    jobs: list[Job] = [(one.recording, [path]) for path, one in understood]
    joined: list[Joined] = []
    if options.beside and not options.draft and not columns:
        _need_temperatures(understood, as_one=as_one)
    if whole is not None:
        jobs = [whole]
    elif as_one:
        merged, joined = _merge(understood, asked.offsets, asked.match, options)
        jobs = [(merged, list(asked.files))]
    if asked.every_load:
        jobs = [(load, paths) for whole, paths in jobs for load in split_loads(whole)]
    jobs = [(in_room(one, asked.room), paths) for one, paths in jobs]
    jobs = _named_loads(asked, jobs)
    names = _of_each("setups", asked.setups, jobs)
    if asked.every_load:
        tell(_loads_words(jobs, names))
    if asked.write_columns is not None:
        from gelassen.intake.column_file import write_columns

        write_columns(understood[0][1], asked.write_columns, source=asked.files[0].name)
        say(f"written: {asked.write_columns}")
    if asked.dry_run or asked.study is None or not asked.setups:
        return
    for folder in _stored(asked, asked.study, jobs, names):
        emit(f"stored as {folder}")
        for entry in joined:
            _draw(entry, understood, asked.study, f"{folder.name}-{entry.name}.png")


def _stored(
    asked: ImportOptions, study: Path, jobs: "list[Job]", names: tuple[str, ...]
) -> list[Path]:
    """Store all runs, or none of them; return their folders."""
    from gelassen.core.foundation.errors import InputError
    from gelassen.intake.store import store_import, stored_before
    from gelassen.study.file.new_study import check_limit

    for recording, originals in jobs:
        check_limit(asked.limit_c, _room_c(recording), originals[0].name)
        earlier = stored_before(study, originals)
        if earlier is not None:
            raise InputError(
                f"{originals[0]} is in this study already, as {earlier}. The same log twice would "
                "count as a repeat; nothing was stored"
            )
    asks = not asked.yes and sys.stdin.isatty()
    if asks and not click.confirm("Store this?", default=True, err=True):
        say("nothing was stored")
        sys.exit(FAILED)
    folders: list[Path] = []
    try:
        for (recording, originals), setup in zip(jobs, names, strict=True):
            beside = next(
                (f for f, (_, own) in zip(folders, jobs, strict=False) if own == originals), None
            )
            folders.append(
                store_import(
                    recording, originals, study, setup=setup, limit_c=asked.limit_c,
                    new_setup=asked.new_setup, mount=asked.mount, beside=beside,
                )
            )  # fmt: skip
    except BaseException:
        # If only some loads were stored, the log would count as stored and the rest be refused.
        for folder in folders:
            shutil.rmtree(folder, ignore_errors=True)
        raise
    return folders


def _room_c(recording: "Recording") -> float | None:
    """Return the mean of the room that a log holds."""
    name = recording.reference or "room.air.temp_c"
    if name not in recording.frame:
        return None if recording.stated_room is None else recording.stated_room[0]
    mean = float(recording.frame[name].mean())
    return None if mean != mean else mean


def _of_each(what: str, names: tuple[str, ...], jobs: "list[Job]") -> tuple[str, ...]:
    """Return one name a run; the same for all if only one was given."""
    from gelassen.core.foundation.errors import InputError

    if len(names) <= 1:
        return (names or ("",)) * len(jobs)
    if len(names) != len(jobs):
        raise InputError(
            f"{len(names)} {what} for {len(jobs)} runs: name one for all, or one each in their order"
        )
    return names


def _named_loads(asked: ImportOptions, jobs: "list[Job]") -> "list[Job]":
    """Return the runs with their loads named: as told, else as the marks of the log say."""
    if not asked.loads:
        if asked.every_load and any(one.load is None for one, _ in jobs):
            hint(
                "loads without a name are told apart by their power; --load NAME, once each, names them"
            )
        return jobs
    names = asked.loads
    if len(jobs) == len(asked.files) * len(names):  # the same programs in each log
        names = names * len(asked.files)
    names = _of_each("loads", names, jobs)
    return [
        (replace(one, load=name), paths) for (one, paths), name in zip(jobs, names, strict=True)
    ]


def _loads_words(jobs: "list[tuple[Recording, list[Path]]]", names: tuple[str, ...]) -> str:
    """Return which loads were found, and the run that each becomes."""
    lines = []
    for (recording, paths), name in zip(jobs, names, strict=True):
        start, end = recording.load_span_s() or (0.0, 0.0)
        lines.append(
            f"{paths[0].name}, {recording.cautions[-1]}: {(end - start) / 60:.0f} min under load, "
            f"{start / 60:.0f} min before it" + (f", setup {name}" if name else "")
        )
    return "\n".join(lines)


def _are_long(files: tuple[Path, ...]) -> bool:
    return sum(path.stat().st_size for path in files if path.is_file()) > _LONG_BYTES


def _need_named_columns(
    understood: "list[tuple[Path, Understanding]]", asked: ImportOptions, *, as_one: bool
) -> None:
    """Refuse a column that the user typed and no log has; or some log, if each is a run of its own.

    A file of columns may name more than these logs have. That is said.
    """
    from gelassen.core.foundation.errors import InputError
    from gelassen.core.foundation.spelling import nearest

    typed = {text.rpartition("=")[0].strip() for text in asked.pairs}
    lacking = [set(one.absent) for _, one in understood]
    nowhere = set.intersection(*lacking)
    for name in sorted((nowhere if as_one else set.union(*lacking)) & typed):
        path = next(path for path, one in understood if name in one.absent)
        where = "none of these logs has a" if name in nowhere else f"{path} has no"
        headers = [w.header for _, one in understood for w in one.columns]
        raise InputError(
            f'{where} column "{name}". --dry-run shows the columns of a log.'
            + nearest(name, headers)
        )
    if len(understood) > 1 and nowhere:
        hint("none of these logs has: " + ", ".join(sorted(nowhere)))


def _columns(pairs: tuple[str, ...], mapping: Path | None) -> Any:
    from gelassen.intake.meaning.columns import read_column_file

    if mapping is not None and not pairs:
        return mapping
    columns: dict[str, Any] = dict(read_column_file(mapping)) if mapping else {}
    for text in pairs:
        header, channel = pair("--column", text, '"pkg temp=cpu.package.temp_c"', last=True)
        columns[header] = channel
    return columns


def _words(path: Path, one: "Understanding", *, every_load: bool = False) -> str:
    """Return how one log was understood, for people."""
    from gelassen.intake.load_phases import LOAD_PAUSED
    from gelassen.intake.table import COLUMNS_LEFT_ALONE
    from gelassen.show.tables import aligned

    frame = one.recording.frame
    times = frame.index
    lines = [f"{path}", f"  {counted(len(times), 'sample')}, {times[0]:g} to {times[-1]:g} s"]
    if one.recording.started is not None:
        lines[-1] += f", from {one.recording.started.isoformat(sep=' ', timespec='seconds')}"
    lines += [f"  {name}: {words}" for name, words in one.facts.items() if words]
    for start, end in one.gaps[:5]:
        lines.append(f"  gap: {end - start:g} s after {start:g} s")
    if len(one.gaps) > 5:
        lines.append(f"  and {counted(len(one.gaps) - 5, 'more gap')}")
    for phase in () if every_load else one.recording.phases:
        lines.append(f"  {phase.name}: {phase.start_s:g} to {phase.end_s:g} s ({phase.ended_by})")
    rows = [
        (c.header[:48], c.channel, c.conversion, c.confidence)
        for c in one.columns if c.channel is not None
    ]  # fmt: skip
    table = aligned(("column", "channel", "values", "how sure"), rows) if rows else ""
    lines += ["  " + line for line in table.split("\n")]
    lines += [
        f'  marks: "{c.header}" says what ran ({counted(len(one.recording.events), "change")})'
        + (f"; the load is called {one.recording.load!r}" if one.recording.load and not every_load else "")
        for c in one.columns if c.is_mark
    ]  # fmt: skip
    alone = [(c.header, c.why) for c in one.columns if c.is_left_alone]
    lines += [f'  left alone: "{header}": {why}' for header, why in alone[:20]]
    if len(alone) > 20:
        lines.append(f"  and {counted(len(alone) - 20, 'more column')} left alone")
    lines += [
        f"  caution: {text}"
        for text in one.recording.cautions
        if text.code not in (COLUMNS_LEFT_ALONE, *((LOAD_PAUSED,) if every_load else ()))
    ]
    return "\n".join(lines)


def _need_temperatures(understood: "list[tuple[Path, Understanding]]", *, as_one: bool) -> None:
    """Refuse logs without a temperature: each one, or all logs of one run together."""
    from gelassen.core.foundation.errors import FileError
    from gelassen.intake.table import no_temperature

    without = [
        (path, one)
        for path, one in understood
        if not any(str(name).endswith("_c") for name in one.recording.frame.columns)
    ]
    if without and (not as_one or len(without) == len(understood)):
        path, one = without[0]
        unclear = [word.header for word in one.columns if word.channel is None]
        raise FileError(no_temperature(path.name, unclear))


def _one_log(
    understood: "list[tuple[Path, Understanding]]", asked: ImportOptions, options: "LogOptions"
) -> "Job | None":
    """Return the log that all files are parts of, in their order; None if they are several logs."""
    from gelassen.intake.file_parts import one_log_of
    from gelassen.intake.load_phases import find_phases

    named_each = max(len(asked.setups), 0 if asked.every_load else len(asked.loads)) > 1
    if asked.merge is False or asked.offsets or asked.match or named_each:
        return None
    found = one_log_of([one for _, one in understood], at_rest=asked.merge is True)
    if found is None:
        return None
    log, order = found
    phases, notes = find_phases(
        log.frame,
        load_start_s=options.load_start_s,
        load_end_s=options.load_end_s,
        hold_s=options.hold_s,
    )
    say(
        f"{len(order)} files of one log, as each goes on where another ends: one run "
        "(--each: one run each)"
    )
    return replace(log, phases=phases, cautions=(*log.cautions, *notes)), [
        understood[k][0] for k in order
    ]


def _as_one_run(
    understood: "list[tuple[Path, Understanding]]", merge: bool | None, laid: bool
) -> bool:
    """Return whether several logs are of one run: as told, else if their channels differ."""
    if len(understood) < 2:
        return False
    if merge is not None or laid:
        return merge if merge is not None else True
    names = [set(one.recording.frame.columns) for _, one in understood]
    alike = all(
        len(names[0] & other) >= 0.5 * min(len(names[0]), len(other)) for other in names[1:]
    )
    if alike:
        say(
            f"{len(understood)} logs with the same channels: one run each (--merge makes one run of them)"
        )
    else:
        say(
            f"{len(understood)} logs with different channels: merged into one run (--each keeps them apart)"
        )
    return not alike


def _merge(
    understood: "list[tuple[Path, Understanding]]",
    offsets: tuple[str, ...],
    match: bool,
    options: "LogOptions",
) -> "tuple[Recording, list[Joined]]":
    from gelassen.core.foundation.errors import InputError
    from gelassen.intake.load_phases import find_phases
    from gelassen.intake.merge import merge_logs

    known: dict[str, float] = {}
    for text in offsets:
        like = '"meter.csv=12.5", in seconds'
        name, seconds = pair("--offset", text, like, last=True)
        try:
            known[Path(name).stem] = float(seconds)
        except ValueError:
            raise InputError(f'--offset "{text}": write it like {like}') from None
    merged, joined = merge_logs(
        [one.recording for _, one in understood], offsets=known, match=match
    )
    phases, notes = find_phases(
        merged.frame,
        load_start_s=options.load_start_s,
        load_end_s=options.load_end_s,
        hold_s=options.hold_s,
    )
    for entry in joined:
        span = f" ({entry.low_s:.1f} to {entry.high_s:.1f} s)" if entry.high_s > entry.low_s else ""
        matched = (
            f", {entry.pair[0]} with {entry.pair[1]}"
            if entry.pair and entry.how == "matched changes"
            else ""
        )
        emit(
            f"{entry.name}: begins {entry.offset_s:+.1f} s{span} after the first, by {entry.how}{matched}"
        )
    for text in merged.cautions[len(understood[0][1].recording.cautions) :]:
        emit(f"  caution: {text}")
    return replace(merged, phases=phases, cautions=(*merged.cautions, *notes)), joined


def _draw(
    entry: "Joined", understood: "list[tuple[Path, Understanding]]", study: Path, name: str
) -> None:
    if entry.pair is None or entry.alignment is None or entry.how != "matched changes":
        return
    from gelassen.figures.alignment_figure import alignment_figure

    first = understood[0][1].recording
    other = next(one.recording for _, one in understood[1:] if one.recording.name == entry.name)
    drawn = [
        (
            r.name,
            channel,
            r.frame.index.to_numpy(dtype=float),
            r.frame[channel].to_numpy(dtype=float),
        )
        for r, channel in zip((first, other), entry.pair, strict=True)
    ]
    alignment = entry.alignment
    give_figure(
        lambda path: alignment_figure(
            drawn[0], drawn[1], alignment, path, made_up=first.made_up
        ),
        None, study, name,
    )  # fmt: skip
