"""What each column becomes: as the user says, else as recognised. Other columns are left alone."""

from collections.abc import Callable, Collection, Mapping, Sequence

import numpy as np

from gelassen.core.foundation.errors import InputError
from gelassen.core.recording.channels import UNITS, parse_channel
from gelassen.core.recording.units import Conversion, factors
from gelassen.intake.marks import MARK_HEADERS
from gelassen.intake.meaning.columns import IGNORE, MARK, Target
from gelassen.intake.meaning.recognise import NO_PART, Guess, recognise
from gelassen.intake.meaning.unit_guess import Spread, guess_unit
from gelassen.intake.text.cells import Decimal, is_missing, read_value
from gelassen.intake.text.headers import STATE, Header
from gelassen.intake.text.rows import Column
from gelassen.intake.time.sampling import spread_of, unit_behind
from gelassen.intake.understanding import ColumnWords

# Correlation with power or load above which a temperature counts as the processor's.
_FOLLOWS = 0.6
_FOLLOWED = "its header does not name a part; it follows the load"


def plan_columns(
    keys: Sequence[str],
    headers: Sequence[Header],
    samples: Sequence[Sequence[str]],
    assigned: Mapping[str, Target],
    times: Sequence[int],
    stamped: Collection[int],
    decimals: Mapping[str, Decimal],
    main: Decimal,
) -> tuple[list[Column], list[ColumnWords], list[Conversion]]:
    """Return for each column how its cells are read, what it becomes, and how its numbers convert.

    Parameters
    ----------
    keys
        Headers made distinct.
    times, stamped
        Positions of the time; those that hold stamps and not numbers.
    """
    marks = [decimals.get(key, main) for key in keys]
    spreads: dict[int, Spread] = {}
    behind: dict[int, str] = {}
    for k, cells in enumerate(samples):
        if k not in times:
            spread = spread_of(cells, marks[k])
            if spread is not None:
                spreads[k] = spread
                behind[k] = unit_behind(cells, marks[k])
    seen = [
        header if header.unit else header._replace(unit=behind.get(k, ""))
        for k, header in enumerate(headers)
    ]
    open_ones = [k for k in range(len(keys)) if k not in times and keys[k] not in assigned]
    guesses = dict(
        zip(
            open_ones,
            recognise(
                [seen[k] for k in open_ones],
                {n: spreads[k] for n, k in enumerate(open_ones) if k in spreads},
                taken={t.channel for t in assigned.values()},
            ),
            strict=True,
        )
    )
    follower = _follows_load(guesses, samples, marks, {t.channel for t in assigned.values()})
    if follower is not None:
        guesses[follower] = Guess(
            "cpu.package.temp_c", seen[follower].unit, "likely", _FOLLOWED,
        )  # fmt: skip
    plans: list[Column] = []
    words: list[ColumnWords] = []
    conversions: list[Conversion] = []
    for k, key in enumerate(keys):
        if k in times:
            plans.append(Column("stamp" if k in stamped else "number", marks[k]))
            words.append(ColumnWords(key, None, confidence="time"))
            conversions.append(Conversion())
            continue
        if key in assigned:
            _need_numbers(key, assigned[key], samples[k], spreads.get(k))
            entry, conversion = _as_told(key, assigned[key], seen[k], spreads.get(k))
        elif k not in spreads and seen[k].words.casefold() in MARK_HEADERS:
            entry, conversion = ColumnWords(key, None, is_mark=True), Conversion()
        else:
            entry, conversion = _as_guessed(key, guesses[k])
        words.append(entry)
        conversions.append(conversion)
        plans.append(_column(entry, conversion, marks[k], spreads.get(k)))
    return plans, words, conversions


def _follows_load(
    guesses: Mapping[int, Guess],
    samples: Sequence[Sequence[str]],
    marks: Sequence[Decimal],
    told: Collection[str],
) -> int | None:
    """Return the one temperature without a part that follows the processor's power or load."""
    channels = [*(g.channel for g in guesses.values() if g.channel), *told]
    if any(c.startswith("cpu.") and c.endswith(".temp_c") for c in channels):
        return None
    nameless = [
        k for k, g in guesses.items() if g.why == NO_PART and (g.channel or "").endswith(".temp_c")
    ]
    levels = [
        k for k, g in guesses.items()
        if g.channel in ("cpu.package.power_w", "cpu.all.load_pct", "wall.supply.power_w")
    ]  # fmt: skip
    if len(nameless) != 1 or not levels:
        return None
    pair = [_numbers(samples[k], marks[k]) for k in (nameless[0], levels[0])]
    good = np.isfinite(pair[0]) & np.isfinite(pair[1])
    if good.sum() < 30 or min(np.ptp(x[good]) for x in pair) <= 0:
        return None
    return nameless[0] if np.corrcoef(pair[0][good], pair[1][good])[0, 1] > _FOLLOWS else None


def _numbers(cells: Sequence[str], mark: Decimal) -> np.ndarray:
    read = (read_value(cell, mark) for cell in cells)
    return np.array([np.nan if value is None else value.number for value in read])


def _need_numbers(key: str, target: Target, cells: Sequence[str], spread: Spread | None) -> None:
    if spread is not None or target.channel in (IGNORE, MARK):
        return
    texts = [cell for cell in cells if not is_missing(cell)]
    if texts:
        raise InputError(f'column "{key}" holds no numbers (first cell: {texts[0].strip()!r:.40})')


def _column(
    entry: ColumnWords, conversion: Conversion, mark: Decimal, spread: Spread | None
) -> Column:
    if entry.channel is None:
        return Column("stamp" if entry.is_mark else "skip", mark)
    kind = "state" if spread is not None and spread.states else "number"
    return Column(kind, mark, _relative(entry.unit, parse_channel(entry.channel).unit, conversion))


def _relative(
    unit: str, own: str, conversion: Conversion
) -> Callable[[str], tuple[float, float] | None]:
    """Return how a unit behind a number becomes the column's unit, before the column is converted."""

    def convert(written: str) -> tuple[float, float] | None:
        if written == unit:
            return 1.0, 0.0
        to_own = factors(written, own)
        if to_own is None or not conversion.scale:
            return None
        return to_own.scale / conversion.scale, (
            to_own.offset - conversion.offset
        ) / conversion.scale

    return convert


def _as_told(
    key: str, target: Target, header: Header, spread: Spread | None
) -> tuple[ColumnWords, Conversion]:
    if target.channel == IGNORE:
        return ColumnWords(key, None, why="left alone, as the user asked"), Conversion()
    if target.channel == MARK:
        return ColumnWords(key, None, confidence="told", is_mark=True), Conversion()
    own = parse_channel(target.channel).unit
    if key == target.channel:  # one of our own names
        return ColumnWords(key, key, "as it is", "", "sure"), Conversion()
    if target.unit:
        found = factors(target.unit, own)
        if found is None:
            raise InputError(f'"{target.unit}" cannot become the unit of {target.channel}')
        total = Conversion(
            found.scale * target.scale, (found.offset + target.offset) * target.scale
        )
        return ColumnWords(
            key, target.channel, _words(target.unit, own, target), target.unit, "told"
        ), total
    if target.scale != 1 or target.offset != 0:  # the user gives the whole conversion
        total = Conversion(target.scale, target.offset * target.scale)
        return ColumnWords(key, target.channel, target.conversion, header.unit, "told"), total
    unit = header.unit if header.unit != STATE else ""
    found = factors(unit, own) if unit else None
    if unit and found is None:
        why = f"its unit {unit} cannot become {UNITS[own][0] or own}: values are taken as they are"
        return ColumnWords(key, target.channel, "as it is", "", "told", why), Conversion()
    if found is not None:
        return ColumnWords(key, target.channel, _words(unit, own, target), unit, "told"), found
    why = ""
    if spread is not None and own in ("c", "mhz", "w"):
        guess = guess_unit(own, spread)
        if guess and factors(guess, own) != Conversion():
            why = (
                f"no unit in the header, and its values look like {guess}: taken as they are. "
                f"Tell its unit"
            )
    return ColumnWords(key, target.channel, "as it is", "", "told", why), Conversion()


def _as_guessed(key: str, guess: Guess) -> tuple[ColumnWords, Conversion]:
    if guess.channel is None:
        return ColumnWords(key, None, why=guess.why), Conversion()
    own = parse_channel(guess.channel).unit
    conversion = (
        factors(guess.unit, own) if guess.unit and guess.unit != STATE else None
    ) or Conversion()
    words = (
        "as it is" if conversion == Conversion() else _words(guess.unit, own, Target(guess.channel))
    )
    return ColumnWords(
        key, guess.channel, words, guess.unit, guess.confidence, guess.why, guess.only_named
    ), conversion


def _words(unit: str, own: str, target: Target) -> str:
    found = factors(unit, own)
    plain = found == Conversion()
    words = "as it is" if plain else f"{unit} to {UNITS[own][0] or own}"
    if target.scale != 1 or target.offset != 0:
        words = (words + ", then " if not plain else "") + target.conversion
    return words
