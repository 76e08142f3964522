"""Turns a text table into a recording. Each guess about its form is reported."""

import shlex
from collections.abc import Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from datetime import datetime
from mmap import ACCESS_READ, mmap
from os import cpu_count
from pathlib import Path

import numpy as np
import pandas as pd

from gelassen.core.foundation.caution import Caution
from gelassen.core.foundation.counted import counted
from gelassen.core.foundation.errors import FileError
from gelassen.core.foundation.inputs import Bools, Floats
from gelassen.core.recording.power_from_current import with_power
from gelassen.core.recording.recording import Event, Origin, Phase, Recording
from gelassen.core.recording.units import Conversion, kinds_of
from gelassen.intake.load_phases import find_phases
from gelassen.intake.marks import find_marks, mark_of
from gelassen.intake.meaning.columns import TIME, Target, assign
from gelassen.intake.meaning.recognise import NO_PART
from gelassen.intake.plan import plan_columns
from gelassen.intake.text.cells import Decimal, is_missing
from gelassen.intake.text.decimals import decide_decimals
from gelassen.intake.text.encoding import Decoded, decode, is_plain_utf8
from gelassen.intake.text.headers import Header, read_header
from gelassen.intake.text.layout import DELIMITERS, Layout, find_layout
from gelassen.intake.text.rows import TORN, Column, LeftOut, Rows, read_rows, shown
from gelassen.intake.time import clock_zero
from gelassen.intake.time.sampling import sample_columns
from gelassen.intake.time.stamp_reading import offset_of, read_stamps
from gelassen.intake.time.time_column import TimeColumn, find_time, names_time
from gelassen.intake.time.timeline import Kind, gaps, straighten
from gelassen.intake.understanding import ColumnWords, LogOptions, Understanding

_HEAD_BYTES = 1 << 20
_LONG = 64 << 20
_SHOWN = 12
# Rows with text in place of a number are damaged. With more such rows, the column is not a number.
_FEW_ROWS, _FEW_SHARE = 3, 0.01
# The code of the caution that names the unused columns.
COLUMNS_LEFT_ALONE = "columns_left_alone"


def understand_table(
    path: Path, targets: Mapping[str, Target], options: LogOptions, *, strict: bool
) -> Understanding:
    """Read a text table.

    Parameters
    ----------
    targets
        What the user says about columns; with `strict`, each must be in the log.

    Raises
    ------
    FileError, InputError
        As `read_log`.
    """
    mapped = None if options.encoding else _mapped(path)
    if mapped is not None:
        try:
            return _understand(path, mapped, targets, options, strict=strict)
        except UnicodeDecodeError:
            pass  # its later part is in another encoding, so the whole text is examined
    return _understand(path, _text_of(path, options), targets, options, strict=strict)


@dataclass(frozen=True, slots=True, kw_only=True)
class _Form:
    """The form of a table: where its rows begin, how its cells are written, what its columns mean."""

    layout: Layout
    start: int  # byte of the first row
    keys: Sequence[str]
    samples: list[list[str]]
    main: Decimal
    time: TimeColumn
    plans: Sequence[Column]
    words: Sequence[ColumnWords]
    conversions: Sequence[Conversion]
    cautions: tuple[Caution, ...]
    absent: tuple[str, ...]  # named by the user, but not here


@dataclass(frozen=True, slots=True, kw_only=True)
class _Samples:
    """The rows of a table as samples."""

    frame: pd.DataFrame
    started: datetime | None
    left_out: dict[str, LeftOut]
    cautions: tuple[Caution, ...]
    events: tuple[Event, ...]
    zero_s: float


def _understand(
    path: Path,
    decoded: Decoded,
    targets: Mapping[str, Target],
    options: LogOptions,
    *,
    strict: bool,
) -> Understanding:
    form = _form(path, decoded, targets, options, strict=strict)
    samples = _samples(path, decoded, form, options)
    frame, powers = with_power(samples.frame)
    phases, noticed = find_phases(
        frame,
        load_start_s=options.load_start_s,
        load_end_s=options.load_end_s,
        hold_s=options.hold_s,
    )
    usual, wide = gaps(frame.index.to_numpy(dtype=float))
    time, words, layout = form.time, form.words, form.layout
    recording = Recording(
        frame=frame, started=samples.started, phases=phases, name=path.stem,
        cautions=(*form.cautions, *samples.cautions, *_column_cautions(words), *noticed),
        outcome="imported", events=samples.events, load=_load_of(samples.events, phases),
        channels={w.channel: Origin(w.header, w.conversion) for w in words if w.channel}
        | {name: Origin(" × ".join(pair), "voltage times current") for name, pair in powers.items()},
    )  # fmt: skip
    return Understanding(
        recording=recording,
        columns=tuple(w for w in words if w.confidence != "time"),
        time_headers=tuple(form.keys[k] for k in time.columns),
        facts={
            "encoding": decoded.encoding,
            "delimiter": DELIMITERS.get(layout.delimiter, layout.delimiter),
            "decimal mark": "comma" if form.main == "," else "point",
            "table": _where(layout),
            "time": " and ".join(f'"{form.keys[k]}"' for k in time.columns) + f": {time.words}",
            "interval": f"{usual:g} s" if np.isfinite(usual) else "unknown",
        }
        | ({"from voltage and current": ", ".join(powers)} if powers else {}),
        left_out=tuple(
            (reason, some.count, tuple(some.lines), some.example)
            for reason, some in samples.left_out.items()
        ),
        gaps=tuple(wide),
        absent=form.absent,
        zero_s=samples.zero_s,
    )


def _form(
    path: Path,
    decoded: Decoded,
    targets: Mapping[str, Target],
    options: LogOptions,
    *,
    strict: bool,
) -> _Form:
    """Find out how the table is written and what its columns mean."""
    name = str(path)
    cautions = [Caution(text, code="encoding") for text in decoded.cautions]
    layout = find_layout(_first_lines(decoded.data), name, delimiter=options.delimiter)
    keys = distinct(layout.headers)
    headers = _headers(layout)
    start = _byte_of_line(decoded.data, layout.data_line)
    samples = sample_columns(decoded.data, start, layout)
    main, decimals, notes = _decimals(keys, headers, samples, options, name)
    cautions += [Caution(text, code="decimal_mark") for text in notes]
    assigned, absent = assign(list(keys), targets, strict=strict)
    if absent and not options.beside:  # another log of the run may have them
        text = "the mapping names columns that this log does not have: " + _named(absent)
        cautions.append(Caution(text, code="mapping_without_column"))
    time = find_time(
        [Header(key, h.words, h.unit) for key, h in zip(keys, headers, strict=True)], samples,
        decimals, main,
        named_columns=[
            k for k, key in enumerate(keys) if key in assigned and assigned[key].channel == TIME
        ],
        dates=options.dates, where=name,
    )  # fmt: skip
    if time.guessed:
        cautions.append(Caution(f"guessed: {time.guessed}", code="time_guessed"))
    stamped = {k for k, form in zip(time.columns, time.forms, strict=True) if form is not None}
    plans, words, conversions = plan_columns(
        keys, headers, samples, assigned, time.columns, stamped, decimals, main
    )
    if not options.draft:
        _need_channels(name, words, mapped=bool(targets) or options.beside)
    return _Form(
        layout=layout, start=start, keys=keys, samples=samples, main=main, time=time, plans=plans,
        words=words, conversions=conversions, cautions=tuple(cautions), absent=tuple(absent),
    )  # fmt: skip


def _samples(path: Path, decoded: Decoded, form: _Form, options: LogOptions) -> _Samples:
    """Read the rows, and put them on a time line that only goes forward."""
    name, time, cautions = str(path), form.time, list[Caution]()
    rows = read_rows(
        decoded.data, form.start, form.layout.data_line + 1, form.layout, form.plans, form.main,
        path=path if isinstance(decoded.data, mmap) else None,
        missing=any(is_missing(cell) for cells in form.samples for cell in set(cells)),
    )  # fmt: skip
    seconds = _seconds(rows, time)
    left_out = {reason: some for reason, some in rows.left_out.items() if reason}
    keep = _usable(rows, seconds, form.words, left_out, cautions)
    if not keep.any():
        column = form.keys[time.columns[0]]
        raise FileError(
            f'{name}: no row has a time in column "{column}" that can be read'
            if not np.isfinite(seconds).any()
            else f"{name}: no row is left that can be used"
        )
    first_row = int(np.flatnonzero(keep)[0])
    first_cell = str(rows.cells[time.columns[0]][first_row])
    times, order, notes = _straightened(rows, seconds, keep, time, options, name)
    cautions += [Caution(text, code="time_line") for text in notes]
    started, t_s, notes = _zero(times, time, first_cell, form.layout, options)
    cautions += [Caution(text, code="log_start") for text in notes]
    if t_s.size < 2:
        raise FileError(
            f"{name}, line {rows.line[first_row]}: the only sample of this log; no course can be told from "
            "one. Export a longer part, or note single readings in a run: gelassen note RUN"
        )
    marks = [k for k, word in enumerate(form.words) if word.is_mark]
    events = [e for k in marks for e in find_marks(t_s, [str(rows.cells[k][n]) for n in order])]
    frame = _frame(rows, form.words, form.conversions, order, t_s)
    cautions += [
        Caution(_left_out_words(reason, some), code="rows_left_out")
        for reason, some in left_out.items()
    ]
    return _Samples(
        frame=frame, started=started, left_out=left_out, cautions=tuple(cautions),
        zero_s=round(float(times[0] - t_s[0]), 6),
        events=tuple(sorted(events, key=lambda event: event.at_s)),
    )  # fmt: skip


def _load_of(events: Sequence[Event], phases: Sequence[Phase]) -> str | None:
    """Return what was marked as running under the load."""
    loaded = [phase for phase in phases if phase.name in ("soak", "hold")]
    return mark_of(events, (loaded[0].start_s, loaded[-1].end_s)) if loaded else None


def _column_cautions(words: Sequence[ColumnWords]) -> list[Caution]:
    """Return cautions: guesses about columns, and columns left alone."""
    nameless = [
        w.header for w in words if w.why == NO_PART and (w.channel or "").endswith(".temp_c")
    ]
    # With one such column, what to do is said; with many, the help says it.
    how = ""
    if len(nameless) == 1:
        told = shlex.quote(f"{nameless[0]}=room.air.temp_c")
        how = f". If it is the room: --column {told}"
    cautions = [
        Caution(f'"{w.header}": {w.why}{how if w.header in nameless else ""}', code="column")
        for w in words
        if w.channel and w.why and not w.only_named
    ]
    alone = [w.header for w in words if w.is_left_alone]
    if alone:
        text = "columns left alone, since it is not clear what they are: " + _named(alone)
        cautions.append(Caution(text, code=COLUMNS_LEFT_ALONE))
    return cautions


def distinct(headers: Sequence[str]) -> list[str]:
    """Return headers without empty or repeated ones: the second "Temp" becomes "Temp #2"."""
    keys: list[str] = []
    taken = set(headers)
    seen: dict[str, int] = {}
    for k, header in enumerate(headers):
        plain = header or f"column {k + 1}"
        seen[plain] = seen.get(plain, 0) + 1
        key = plain
        while (key in taken and seen[plain] > 1) or (key in keys):
            key = f"{plain} #{seen[plain]}"
            if key not in taken and key not in keys:
                break
            seen[plain] += 1
        keys.append(key)
    return keys


def _mapped(path: Path) -> Decoded | None:
    """Return a long plain log unread, as a file; None if it is short or not plain."""
    try:
        if path.stat().st_size < _LONG:
            return None
        with path.open("rb") as stream:
            data = mmap(stream.fileno(), 0, access=ACCESS_READ)
    except (OSError, ValueError):
        return None
    if not is_plain_utf8(data[:_HEAD_BYTES], data[len(data) - _HEAD_BYTES :]):
        return None
    return Decoded(data, "UTF-8")


def _text_of(path: Path, options: LogOptions) -> Decoded:
    try:
        raw = path.read_bytes()
    except OSError as error:
        raise FileError(f"{path} cannot be read: {error.strerror}") from None
    decoded = decode(raw, str(path), encoding=options.encoding)
    head = decoded.data[:_HEAD_BYTES]
    if b"\r" in head and b"\n" not in head:  # lines as very old machines end them
        return Decoded(decoded.data[:].replace(b"\r", b"\n"), decoded.encoding, decoded.cautions)
    return decoded


def _first_lines(data: "bytes | mmap") -> list[str]:
    head = data[:_HEAD_BYTES].decode("utf-8", "replace")
    lines = head.split("\n")
    lines = lines if len(data) <= _HEAD_BYTES else lines[:-1] or lines
    lines = [line.removesuffix("\r") for line in lines]
    while lines and not lines[-1].strip():
        lines.pop()
    return lines


def _byte_of_line(data: "bytes | mmap", line: int) -> int:
    at = 0
    for _ in range(line):
        at = data.find(b"\n", at) + 1
    return at


def _headers(layout: Layout) -> list[Header]:
    headers = []
    for text, unit, group in zip(layout.headers, layout.units, layout.groups, strict=True):
        header = read_header(text)
        if unit and not header.unit:
            header = Header(text, text, unit) if not kinds_of(header.unit) else header
        # The time column is outside the groups, even if the first group's name is above it.
        if group and group.casefold() not in header.words.casefold() and not names_time(header):
            header = header._replace(words=f"{group} {header.words}")
        headers.append(header)
    return headers


def _decimals(
    keys: Sequence[str],
    headers: Sequence[Header],
    samples: Sequence[Sequence[str]],
    options: LogOptions,
    name: str,
) -> tuple[Decimal, dict[str, Decimal], list[str]]:
    if options.decimal:
        return options.decimal, {}, []
    quantities = {
        key: next(iter(kinds_of(h.unit)), "") for key, h in zip(keys, headers, strict=True)
    }
    return decide_decimals(dict(zip(keys, samples, strict=True)), quantities, name=name)


def _named(headers: Sequence[str]) -> str:
    shown = ", ".join(f'"{header}"' for header in headers[:_SHOWN])
    return shown + (f" and {len(headers) - _SHOWN} more" if len(headers) > _SHOWN else "")


def no_temperature(name: str, unclear: Sequence[str]) -> str:
    """Return the message for a log without a known temperature."""
    return (
        f"{name}: no column is known to be a temperature (columns that are not clear: "
        f"{_named(unclear) or 'none'}). "
        'Say which is: --column "HEADER=cpu.package.temp_c", or import it together with the log of the '
        "same run that holds one"
    )


def _need_channels(name: str, words: Sequence[ColumnWords], *, mapped: bool) -> None:
    headers = [w.header for w in words if w.is_left_alone]
    if not any(w.channel for w in words):
        raise FileError(
            f"{name}: no column is known to be a channel (columns: {_named(headers)}). "
            'Say which is which: --column "HEADER=cpu.package.temp_c"'
        )
    if not mapped and not any(w.channel and w.channel.endswith("_c") for w in words):
        raise FileError(no_temperature(name, headers))


def _seconds(rows: Rows, time: TimeColumn) -> Floats:
    """Return the time of each row in s by the log's own zero; NaN where there is none."""
    total = np.zeros(rows.line.size)
    for k, form in zip(time.columns, time.forms, strict=True):
        if form is not None:
            total = total + read_stamps([str(cell) for cell in rows.cells[k]], form)
            continue
        total = total + np.asarray(rows.cells[k], dtype=float) * time.scale + time.zero_s
    return np.where(np.isfinite(total), total, np.nan)


def _usable(
    rows: Rows,
    seconds: Floats,
    words: Sequence[ColumnWords],
    left_out: dict[str, LeftOut],
    cautions: list[Caution],
) -> Bools:
    """Return which rows are used: those with a time, and without text in place of a number."""
    keep = np.isfinite(seconds)
    for unknown in np.flatnonzero(~keep):
        left_out.setdefault("rows without a time", LeftOut()).add(int(rows.line[unknown]), "")
    spoilt: dict[int, tuple[int, str]] = {}
    few = max(_FEW_ROWS, _FEW_SHARE * keep.sum())
    for k, texts in rows.texts.items():
        inside = [(row, text) for row, text in texts if keep[row]]
        if len(inside) > few:
            cautions.append(
                Caution(
                    f'cells of "{words[k].header}" that are not numbers: {len(inside)} (such as '
                    f'"{_short(inside[0][1])}"): taken as missing',
                    code="cells_not_numbers",
                )
            )
            continue
        for row, text in inside:
            spoilt.setdefault(row, (k, text))
    if len(spoilt) > few:
        cautions.append(
            Caution(
                f"rows with a cell that is not a number: {len(spoilt)}. These cells are taken as missing",
                code="cells_not_numbers",
            )
        )
        return keep
    for row in sorted(spoilt):
        k, text = spoilt[row]
        keep[row] = False
        reason = f'rows with text in the number column "{words[k].header}"'
        left_out.setdefault(reason, LeftOut()).add(int(rows.line[row]), text)
    return keep


def _short(text: str) -> str:
    return shown(text)[:20]


def _straightened(
    rows: Rows, seconds: Floats, keep: Bools, time: TimeColumn, options: LogOptions, name: str
) -> tuple[Floats, np.ndarray, list[str]]:
    """Return times that only increase, their rows, and cautions about corrections."""
    used = np.flatnonzero(keep)
    first = next((form for form in time.forms if form is not None), None)
    kind: Kind = "moment"
    if time.kind == "elapsed" or (first is not None and first.kind == "duration"):
        kind = "elapsed"
    elif first is not None and first.kind == "of day":
        kind = "of day"
    local = time.kind == "stamps" and not (first is not None and first.has_offset)
    halves = any(form is not None and form.twelve_hours for form in time.forms)
    hours = seconds[used] % 86_400 / 3_600
    line = straighten(
        seconds[used], kind=kind, local=local, line_of=lambda row: int(rows.line[used[row]]), where=name,
        part=options.part, twelve_without_mark=not halves and bool(hours.max() < 13 and hours.min() >= 1),
    )  # fmt: skip
    notes = list(line.notes)
    kept = line.kept if line.kept is not None else np.ones(used.size, dtype=bool)
    times, order = line.time_s[kept], used[line.order][kept]
    same = int((np.diff(times) == 0).sum())
    if same:
        notes.append(f"kept, with the same time as the sample before: {counted(same, 'sample')}")
    return times, order, notes


def _zero(
    times: Floats, time: TimeColumn, first_cell: str, layout: Layout, options: LogOptions
) -> tuple[datetime | None, Floats, list[str]]:
    """Return when the log began, and times that count from there."""
    form = next((f for f in time.forms if f is not None), None)
    first_s = float(times[0])
    counted = np.round(times - first_s, 3 if time.zero_s else 6)  # days have few digits
    if time.kind == "epoch":
        if time.zero_s:  # a spreadsheet's day count follows a local clock
            begun, assumed = clock_zero.from_local(first_s, options.zone)
            return begun, counted, [assumed] if assumed else []
        return clock_zero.from_utc(first_s, 0.0), counted, []
    if time.kind == "elapsed" or (form is not None and form.kind == "duration"):
        started, words = clock_zero.from_preamble(layout.preamble, None, options.zone)
        notes = [words] if words else []
        if abs(first_s) <= 60:
            return started, np.round(times, 9), notes
        # A clock that did not start with the log.
        return (
            started,
            counted,
            [*notes, f"times count from the first sample, which was at {first_s:g} s"],
        )
    if form is not None and form.kind == "of day":
        started, words = clock_zero.from_preamble(layout.preamble, first_s, options.zone)
        return started, counted, [words or "the log states no date"]
    offset = offset_of(first_cell) if form is not None and form.has_offset else None
    if offset is not None:
        return clock_zero.from_utc(first_s, offset), counted, []
    local, assumed = clock_zero.from_local(first_s, options.zone)
    return local, counted, [assumed] if assumed else []


def _frame(
    rows: Rows,
    words: Sequence[ColumnWords],
    conversions: Sequence[Conversion],
    order: np.ndarray,
    t_s: Floats,
) -> pd.DataFrame:
    used = [k for k, w in enumerate(words) if w.channel]
    names = [words[k].channel for k in used]
    index = pd.Index(t_s, name=TIME)
    whole = order.size == rows.line.size and bool((order == np.arange(order.size)).all())
    table = _numbers_in_place(rows, used) if whole else None
    if table is None and not whole:
        table = np.empty((len(used), order.size))
        for n, k in enumerate(used):
            table[n] = np.asarray(rows.cells.pop(k), dtype=float)[order]
    columns = [
        np.asarray(table[n] if table is not None else rows.cells[k], dtype=float)
        for n, k in enumerate(used)
    ]

    def convert(n: int) -> None:
        numbers, conversion = columns[n], conversions[used[n]]
        if conversion != Conversion():
            numbers *= conversion.scale
            numbers += conversion.offset
        with np.errstate(over="ignore", invalid="ignore"):
            total = numbers.sum()  # quick, and finite where all numbers are
        if not np.isfinite(total):
            numbers[np.isinf(numbers)] = np.nan

    with ThreadPoolExecutor(max(cpu_count() or 1, 1)) as pool:
        list(pool.map(convert, range(len(used))))
    if table is not None:
        return pd.DataFrame(table.T, columns=names, index=index, copy=False)
    return pd.DataFrame(dict(zip(names, columns, strict=True)), index=index, copy=False)


def _numbers_in_place(rows: Rows, used: Sequence[int]) -> Floats | None:
    """Return the table of numbers without copying it, where its columns are wanted in its order."""
    if rows.table is None:
        return None
    held = [k for k, cells in rows.cells.items() if isinstance(cells, np.ndarray)]
    extra = len(held) - len(used)  # a numeric time is one of them, usually the first
    if extra in (0, 1) and sorted(held)[extra:] == list(used):
        return rows.table[extra:]
    return None


def _left_out_words(reason: str, some: LeftOut) -> str:
    lines = ", ".join(map(str, some.lines)) + (" …" if some.count > len(some.lines) else "")
    example = f' ("{some.example}")' if some.example else ""
    if reason == TORN:
        return f"line {lines}, the last, is torn: left out"
    return f"left out: {some.count} × {reason}, line {lines}{example}"


def _where(layout: Layout) -> str:
    if layout.header_line is None:
        return f"without a header, from line {layout.data_line + 1}"
    units = ", units in a row of their own" if any(layout.units) else ""
    return (
        f"header in line {layout.header_line + 1}, values from line {layout.data_line + 1}{units}"
    )
