"""One run in words and numbers."""

import re

import numpy as np

from gelassen.core.changes.steps import Step
from gelassen.core.foundation.result import MADE_UP
from gelassen.core.recording.channels import parse_channel
from gelassen.core.recording.recording import Recording
from gelassen.core.run.quantities import run_quantities
from gelassen.core.run.stretches import Stretch
from gelassen.core.run.summary import RunSummary
from gelassen.core.run.thresholds import Warmth
from gelassen.core.run.warmth_cost import WarmthCost
from gelassen.core.settling.steady_result import SteadyState
from gelassen.core.throttling.throttling_result import Throttling
from gelassen.show.numbers import digits_of, fixed, interval, moment, share
from gelassen.show.tables import aligned

_PER_CORE = re.compile(r"cpu\.(?:package\d+_)?core\d+\.")


def run_text(summary: RunSummary, recording: Recording) -> str:
    """Return the answer, the table and the cautions of one run."""
    parts = ["\n".join([_title(summary), *_answer(summary, recording)])]
    parts.append(_phases(recording))
    held = any(phase.name == "hold" for phase in recording.phases)
    window = "hold" if held else f"last {moment(summary.hold_s[1] - summary.hold_s[0])}"
    header = ("channel", f"{window}: mean", "peak", "run peak", "at")
    parts.append(aligned(header, _rows(summary)))
    if recording.events:
        events = [f"  {moment(e.at_s)}  {e.text}" for e in recording.events]
        parts.append("\n".join(["events", *events]))
    if summary.cautions:
        parts.append("\n".join(["cautions", *(f"  - {text}" for text in summary.cautions)]))
    return "\n\n".join(part for part in parts if part)


_BY_HAND = {
    "highest_c": ("highest under load", "°C"), "mean_c": ("mean under load", "°C"),
    "end_c": ("at the end of the load", "°C"), "rest_c": ("at rest", "°C"), "room_c": ("room", "°C"),
    "power_w": ("power", "W"), "clock_mhz": ("clock", "MHz"), "fan_rpm": ("fan", "rpm"),
    "score": ("score", ""), "noise_dba": ("noise", "dB(A)"), "minutes": ("length of the load", "min"),
}  # fmt: skip


def by_hand_text(recording: Recording) -> str:
    """Return what was entered for a run without samples."""
    title = f"{recording.name}: {recording.setup}" if recording.setup else recording.name
    made_up = f"   ({MADE_UP})" if recording.made_up else ""
    rows = [
        [what, f"{recording.by_hand[name]:g} {unit}".strip()]
        for name, (what, unit) in _BY_HAND.items()
        if name in recording.by_hand
    ]
    return f"{title}{made_up}\nRead by hand, without a log.\n\n" + aligned(
        ["reading", "value"], rows
    )


def _title(summary: RunSummary) -> str:
    title = summary.name or "run"
    if summary.setup:
        title += f": {summary.setup}"
    if summary.made_up:
        title += f"   ({MADE_UP})"
    return title


def _answer(summary: RunSummary, recording: Recording) -> list[str]:
    lines = []
    if summary.outcome not in ("finished", "imported"):
        lines.append(f"The run ended early: {summary.outcome}.")
    lines += _settling_words(summary, recording)
    if summary.throttling is not None:
        lines += _throttling_words(summary, summary.throttling)
    told = (
        (summary.power_w, 1, "W"),
        (summary.clock_mhz, 0, "MHz"),
        (summary.fan_rpm, 0, "rpm"),
        (summary.work_per_s, 1, "rounds of work per second"),
    )
    held = [fixed(value, digits, unit) for value, digits, unit in told if np.isfinite(value)]
    if held:
        lines.append(f"Held: {', '.join(held)}.")
    return [*lines, *_heat_words(summary), *_course_words(summary)]


def _settling_words(summary: RunSummary, recording: Recording) -> list[str]:
    """Return where the temperature settles: of the whole load, or of each stretch between changes."""
    if recording.protocol == "capacity":
        return [_climb_words(summary)]
    if summary.steady is None:
        return _without_temperature(summary, recording)
    if len(summary.stretches) < 2:
        top = _top_words(summary, recording) if summary.steady.is_mean else ""
        return [_capital(_steady_words(summary.steady, summary)) + top]
    levels = {level.start_s: level for level in summary.levels}
    lines = []
    for stretch in summary.stretches:
        level = levels.get(stretch.start_s)
        lines.append(
            f"From {moment(stretch.start_s)} to {moment(stretch.end_s)}"
            + ("" if level is None else f" at {fixed(level.power_w, 1, 'W')}")
            + f": {_steady_words(stretch.steady, summary)}{_stretch_words(stretch, summary)}"
        )
    return lines + _change_words(summary)


def _throttling_words(summary: RunSummary, throttling: Throttling) -> list[str]:
    """Return when the chip was held back, by what, and what that cost."""
    lines = []
    parts = [
        f"{share(part) if part >= 0.005 else 'less than 1 %'} of the load by {cause}"
        for part, cause in throttling.causes
    ]
    if parts and throttling.onset_s is not None:
        lines.append(f"It was held back from {moment(throttling.onset_s)} on: {', '.join(parts)}.")
    elif not throttling.told:
        lines.append("Nothing was logged that tells whether it was held back.")
    elif not np.isfinite(throttling.power_share):
        lines.append(
            "It was not held back by heat. Whether a power limit held it back cannot be told."
        )
    else:
        lines.append("It was not held back, neither by heat nor by a power limit.")
    if throttling.doubt is not None:
        heat, limits = throttling.doubt
        lines.append(
            f"The cause is not sure for {share(throttling.unsure_share)} of the load. "
            f"There, heat held it back with a probability of {share(heat)}, "
            f"and another limit with {share(limits)}."
        )
    lost = summary.held_back
    if lost is not None and np.isfinite([lost.clock_pct, lost.power_pct, lost.work_pct]).any():
        lines.append(
            f"While held back it {lost}, against the {moment(lost.free_s)} in which it was free"
            + ("; the boost of a cold chip is part of that." if lost.free_s < 60 else ".")
        )
    lines += [_warmth_words(cost) for cost in summary.warmth if cost.largest_pct >= Warmth.TOLD_PCT]
    if throttling.at_limit:
        lines.append(
            "It sat at its temperature limit: temperature cannot tell this setup from a worse one, "
            "or show by how much a better one is better. Compare power, clock or work."
        )
    if np.isfinite(throttling.sag_mhz) and throttling.sag_mhz >= 1:
        lines.append(
            f"Boost sagged by {throttling.sag_mhz:.0f} MHz as it warmed, which is not throttling."
        )
    return lines


def _warmth_words(cost: WarmthCost) -> str:
    """Return what clock, power and work lost as it warmed, whatever took it."""
    since = (
        "From its first minute to the hold"
        if cost.at_s is None
        else f"With the change at {moment(cost.at_s)}"
    )
    return f"{since}: {cost}."


def _climb_words(summary: RunSummary) -> str:
    climb = summary.climb
    if climb is None:
        return "The power climbed, but it cannot be told how much is sustained."
    return (
        f"The power climbed to {climb.highest_w:.0f} W. The setup is {climb}; thermal resistance there "
        f"{climb.resistance_k_per_w:.2f} K/W."
    )


def _change_words(summary: RunSummary) -> list[str]:
    """Return when conditions changed, the effect on the steady value, and what was logged of it."""
    lines = []
    for step in summary.steps:
        said = [f"Change at {moment(step.at_s)} ({moment(step.low_s)} to {moment(step.high_s)})"]
        said[0] += f": {_moved_by(step)}"
        said += [step.logged] if step.logged else []
        said += [f"noted: {step.noted}"] if step.noted else []
        lines.append("; ".join(said) + ".")
    return lines


def _moved_by(step: Step) -> str:
    """Return how much the steady value rose or fell from one stretch to the next."""
    size, low, high = step.after - step.before, step.moved_low, step.moved_high
    if not np.isfinite([low, high]).all():
        # One known end may still give the direction.
        least = low if low > 0 else -high if high < 0 else float("nan")
        if not np.isfinite(least):
            return "by how much cannot be told"
        return f"{'up' if low > 0 else 'down'} by {fixed(least, 1, 'K')} or more"
    if low <= 0 <= high:
        return f"whether it moved the steady value cannot be told ({interval(low, high)} K)"
    way, ends = ("up", (low, high)) if size > 0 else ("down", (-high, -low))
    return f"{way} by {fixed(abs(size), 1, 'K')} ({interval(*ends)})"


def _stretch_words(stretch: Stretch, summary: RunSummary) -> str:
    words = ""
    if stretch.within_1k_s is not None:
        words += f" Within 1 K of that after {moment(stretch.within_1k_s)}."
    course = []
    if np.isfinite(stretch.first_minute_k):
        course.append(f"{stretch.first_minute_k:+.1f} K in its first minute")
    steady, by_heat = stretch.steady, stretch.thermal_share >= 0.005
    if np.isfinite([steady.low, steady.high]).all() and steady.time_constants_s and not by_heat:
        course.append(_constants(steady.time_constants_s, steady.time_constant_intervals_s))
    words += f" {_capital(', '.join(course))}." if course else ""
    held, limit = summary.throttling, "a power limit"
    if held is not None and (held.mostly_other or held.other_part is not None):
        limit = held.power_cause
    for part, cause in ((stretch.thermal_share, "heat"), (stretch.power_share, limit)):
        if np.isfinite(part) and part >= 0.005:
            words += f" Held back by {cause} for {share(part)} of it."
    return words


def _constants(values: tuple[float, ...], intervals: tuple[tuple[float, float], ...]) -> str:
    told = [
        f"{value:.0f} s ({low:.0f} to {high:.0f} s)"
        for value, (low, high) in zip(values, intervals, strict=True)
    ]
    return f"time constant{'s' if len(told) > 1 else ''} " + ", ".join(told)


def _heat_words(summary: RunSummary) -> list[str]:
    heat = summary.heat
    if heat is None:
        return []
    lines = []
    if np.isfinite(heat.resistance_k_per_w):
        between = interval(heat.resistance_low_k_per_w, heat.resistance_high_k_per_w, 3)
        lines.append(
            f"Thermal resistance to the reference: {heat.resistance_k_per_w:.3f} K/W ({between})."
        )
    if np.isfinite(heat.energy_j):
        said = f"Energy over the hold: {heat.energy_j / 3600:.1f} Wh"
        if np.isfinite(heat.wall_power_w):
            said += f", {heat.wall_power_w:.1f} W at the wall"
        if np.isfinite(heat.work_per_j):
            said += f", {heat.work_per_j:.3g} rounds of work per joule"
        lines.append(said + ".")
    return lines


def _course_words(summary: RunSummary) -> list[str]:
    lines = []
    course, cores = summary.transients, summary.cores
    if course is not None:
        parts = []
        alone = len(summary.stretches) < 2  # else each sentence has its own
        if np.isfinite(course.first_minute_k) and alone:
            parts.append(f"{fixed(course.first_minute_k)} K in the first minute")
        if course.spike_k:
            parts.append(f"a spike of {course.spike_k:.1f} K at the start, which is not sustained")
        if course.within_1k_s is not None:
            parts.append(f"within 1 K of its end value after {moment(course.within_1k_s)}")
        steady = summary.steady
        if steady is not None and steady.time_constant_intervals_s and alone and not steady.limited:
            parts.append(_constants(steady.time_constants_s, steady.time_constant_intervals_s))
        if parts:
            lines.append(f"Heating: {', '.join(parts)}.")
        parts = []
        if course.half_back_s is not None:
            parts.append(f"half of it gone after {moment(course.half_back_s)}")
        if course.rest_s is not None:
            parts.append(f"back within 1 K of rest after {moment(course.rest_s)}")
        elif np.isfinite(course.left_k):
            parts.append(f"{course.left_k:.1f} K left over rest at the end of the log")
        back = summary.recovery
        if back is not None:
            parts.append(_constants(back.time_constants_s, back.time_constant_intervals_s))
        if parts:
            lines.append(f"Cooling: {', '.join(parts)}.")
    if cores is not None:
        lines.append(f"Cores: {cores}.")
    return lines


def _without_temperature(summary: RunSummary, recording: Recording) -> list[str]:
    """Return what a run without a usable temperature shows, and what it leaves open."""
    if recording.only_rested:
        return [
            "The run ended before its load began. Nothing can be said of the machine under load."
        ]
    lines = [
        "No temperature can be judged in this run. It cannot be concluded where the machine settles, "
        "how far it is from its limit, or whether heat held it back."
    ]
    name = "load.work.rate_per_s"
    if name in recording.frame.columns and recording.frame[name].notna().any():
        start, end = summary.load_s
        under_load = recording.frame.loc[start:end, name].iloc[1:]
        early = float(under_load.loc[: start + max((end - start) / 10, 5.0)].mean())
        if early > 0 and np.isfinite(summary.work_per_s):
            change = 100 * (summary.work_per_s / early - 1)
            lines.append(
                f"Work per second in the hold was {change:+.1f} % against the start of the load; what "
                "caused that cannot be told without temperature and power."
            )
    return lines


def _steady_words(steady: SteadyState, summary: RunSummary) -> str:
    over = f" over {summary.reference}" if summary.reference else ""
    sure = f"{100 * steady.confidence:g} %: {interval(steady.low, steady.high)}"
    if steady.limited:
        return f"{summary.channel_words}{over} {steady.limit_words()}."
    if not steady.took_notice:
        return (
            f"{summary.channel_words} reads the same at rest and under load: where it settles cannot be "
            "told."
        )
    if not np.isfinite([steady.low, steady.high]).any():
        return f"{summary.channel_words}{over} {steady.in_words('settles at')}."
    if steady.swings_between is not None:
        low, high = (fixed(one, 1, steady.unit) for one in steady.swings_between)
        return (
            f"{summary.channel_words} swings about {fixed(steady.value, 1, steady.unit)}{over} ({sure}), "
            f"from {low} to {high}."
        )
    if steady.is_mean:
        mean = f"its mean is {fixed(steady.value, 1, steady.unit)}{over} ({sure})"
        return f"{summary.channel_words} came and went with the load: {mean}."
    text = (
        f"{summary.channel_words} settles at {fixed(steady.value, 1, steady.unit)}{over} ({sure})"
    )
    if steady.reached and steady.reached_at_s is not None:
        after = steady.reached_at_s - steady.window_s[0]
        return f"{text}, reached after {after / 60:.0f} min."
    if not np.isfinite(steady.high) or not np.isfinite(steady.low):
        return f"{text}. The log is too short to tell more."
    return f"{text}, extrapolated: not reached in this log."


def _top_words(summary: RunSummary, recording: Recording) -> str:
    """Return the highest of 99 % of a load that comes and goes."""
    found = run_quantities(recording, summary).get("highest 99")
    if found is None or summary.steady is None:
        return ""
    value, error = found
    between = interval(value - 2 * error, value + 2 * error)
    return (
        f" For 99 % of the load it stayed below {fixed(value, 1, summary.steady.unit)} ({between})."
    )


def _capital(text: str) -> str:
    named = "." in text.split(" ", 1)[0]  # a channel's name is written as it is
    return text if named else text[:1].upper() + text[1:]


def _phases(recording: Recording) -> str:
    if not recording.phases:
        return ""
    spans = [
        f"{phase.name} {moment(phase.start_s)} to {moment(phase.end_s)}" + _end(phase.ended_by)
        for phase in recording.phases
    ]
    return "phases: " + ", ".join(spans)


def _end(by: str) -> str:
    if by in ("", "time"):
        return ""
    plain = by in (
        "guard",
        "load",
        "user",
    )  # the others say in words why it ended, or whence it is known
    return f" (ended by the {by})" if plain else f" ({by})"


def _rows(summary: RunSummary) -> list[tuple[str, ...]]:
    """Return the rows for people. Single cores are summarised in one line for each quantity."""
    rows = []
    table = summary.channels
    # An alarm that was never on is left out.
    quiet = table["channel"].str.endswith(".alarm_flag") & (table["run_peak"] == 0)
    table = table[~quiet]
    many = [c for c in table["channel"] if _PER_CORE.match(c) and c != summary.channel]
    folded = many if len(many) > 8 else []
    for row in table.itertuples(index=False):
        if row.channel in folded:
            continue
        channel = parse_channel(str(row.channel))
        digits = digits_of(channel.unit)
        rows.append(
            _row(
                str(row.channel),
                row.hold_mean,
                row.hold_peak,
                row.run_peak,
                row.run_peak_at_s,
                digits,
                channel.symbol,
            )
        )
    for ending in dict.fromkeys(name.split(".", 2)[2] for name in folded):
        part = table[table["channel"].isin([n for n in folded if n.endswith("." + ending)])]
        channel = parse_channel(str(part["channel"].iloc[0]))
        digits = digits_of(channel.unit)
        peak = (
            part.loc[part["run_peak"].idxmax()] if part["run_peak"].notna().any() else part.iloc[0]
        )
        name = f"other cores ({len(part)}) {ending}"
        rows.append(
            _row(
                name,
                part["hold_mean"].mean(),
                part["hold_peak"].max(),
                peak["run_peak"],
                peak["run_peak_at_s"],
                digits,
                channel.symbol,
            )
        )
    return rows


def _row(
    name: str, mean: float, hold: float, peak: float, at_s: float, digits: int, unit: str
) -> tuple[str, ...]:
    if not np.isfinite(peak):
        return (name, "no reading", "–", "–", "–")
    return (
        name,
        "–" if name.endswith("_count") else fixed(mean, digits, unit),  # a counter only grows
        fixed(hold, digits, unit),
        fixed(peak, digits, unit),
        moment(at_s),
    )
