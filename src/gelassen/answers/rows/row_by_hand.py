"""The row of a run without samples, from what the tester read off a screen."""

from collections.abc import Mapping

from gelassen.answers.rows.run_row import BY_HAND, RunRow
from gelassen.core.recording.recording import Recording
from gelassen.core.settling.read_by_hand import settled_from_reading

_ERROR_SHARE = 0.002  # of a power, clock or score that was read once: it is one figure of several
_READ_K = 0.5  # K: standard deviation of a temperature that was read once, in whole degrees
_NORMAL_95 = 1.96


def row_by_hand(recording: Recording, doubt_k: float | None) -> RunRow:
    """Return what comparisons need from typed readings; see `RunRow`.

    `doubt_k` is how far such readings lie from the steady state, if the tester knows it.
    """
    said = recording.by_hand
    found = settled_from_reading(
        highest_c=said.get("highest_c"), mean_c=said.get("mean_c"), end_c=said.get("end_c"),
        rest_c=said.get("rest_c"), minutes=said.get("minutes"), doubt_k=doubt_k,
    )  # fmt: skip
    room_c = said.get("room_c")
    room_se = said.get("room_se", 0.0) if room_c is not None else 0.0
    value = low = high = error = None
    if found is not None:
        error = float((found.standard_error**2 + room_se**2) ** 0.5)
        value = found.value_c - (room_c or 0.0)
    top, limit_c = said.get("highest_c"), recording.limit_c
    limited, held = limit_c is not None and top is not None and top >= limit_c, None
    if limit_c is not None and found is not None and (limited or found.value_c >= limit_c):
        value = limit_c - (room_c or 0.0)  # nothing settles above its limit
        held, limited = None if limited else 0.0, True  # below the limit, heat held nothing back
    if value is not None and error is not None:
        low, high = value - _NORMAL_95 * error, value + _NORMAL_95 * error
    minutes = said.get("minutes")
    return RunRow(
        run=recording.name, setup=recording.setup or recording.name,
        measured=BY_HAND, kind=BY_HAND, by_hand=True,
        unit="" if found is None else "°C" if room_c is None else "K",
        value=value, standard_error=error, low=low, high=high, reached=True, missing_k=0.0,
        at_limit=limited, thermal_share=held, power_w=said.get("power_w"), settled_w=said.get("power_w"),
        clock_mhz=said.get("clock_mhz"), fan_rpm=said.get("fan_rpm"), noise_dba=said.get("noise_dba"),
        reference_c=room_c, reference=None if room_c is None else "room.air.temp_c",
        limit_c=recording.limit_c, power_limit_w=recording.power_limit_w, outcome=recording.outcome,
        made_up=recording.made_up, mount=recording.mount, load=recording.load,
        load_length_s=None if minutes is None else 60 * minutes,
        started=recording.started.isoformat() if recording.started else None,
        quantities=_quantities(said, room_c, room_se), factors=dict(recording.levels),
    )  # fmt: skip


def _quantities(
    said: Mapping[str, float], room_c: float | None, room_se: float
) -> dict[str, tuple[float, float]]:
    found: dict[str, tuple[float, float]] = {}
    for name, key in (("rest", "rest_c"), ("highest", "highest_c"), ("mean", "mean_c")):
        if key in said:
            error = (_READ_K**2 + room_se**2) ** 0.5
            found[name] = (said[key] - (room_c or 0.0), error)
    for name, key in (("score", "score"), ("clock", "clock_mhz"), ("power", "power_w")):
        if key in said:
            found[name] = (said[key], _ERROR_SHARE * abs(said[key]))
    if "score" in found and found.get("power", (0.0, 0.0))[0] > 0:
        score, power = found["score"][0], found["power"][0]
        found["score per watt"] = (score / power, 2 * _ERROR_SHARE * abs(score / power))
    return found
