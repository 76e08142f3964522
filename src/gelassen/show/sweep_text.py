"""What a sweep of fan duties found, in words."""

from collections.abc import Mapping, Sequence

from gelassen.core.probing.fan_sweep import FanSweep
from gelassen.show.tables import aligned

SWEEP_HEADER = ("duty", "fan", "slowest", "fastest", "stops at", "starts at", "does not follow")


def sweep_rows(fans: Sequence[FanSweep]) -> list[tuple[str, ...]]:
    """Return one row for each fan and the duty that drives it."""
    return [
        (
            one.duty, one.fan, f"{one.turning[1][0]:.0f} rpm", f"{one.turning[1][-1]:.0f} rpm",
            "never" if one.stalls_pct is None else f"{one.stalls_pct:g} %",
            "–" if one.starts_pct is None else f"{one.starts_pct:g} %",
            ", ".join(f"{low:g} to {high:g} %" for low, high in one.dead_pct) or "–",
        )
        for one in fans
    ]  # fmt: skip


def sweep_text(fans: Sequence[FanSweep], none: Sequence[str], refused: Mapping[str, str]) -> str:
    """Return what each duty drives, which drive nothing that is read, and which could not be set."""
    parts = []
    if fans:
        parts.append(aligned(SWEEP_HEADER, sweep_rows(fans)))
        for one in fans:
            speeds = [f"{d:g} % {rpm:.0f}" for d, rpm in zip(*one.turning, strict=True)]
            parts.append(f"{one.fan}, rpm at each duty: " + ", ".join(speeds))
            parts += [f"  caution: {said}" for said in one.cautions]
    if none:
        parts.append(f"no fan that is read follows {', '.join(none)}")
    parts += [f"{name} could not be set: {why}" for name, why in refused.items()]
    return "\n".join(parts)
