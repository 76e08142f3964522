"""One run made ready to be judged: its samples in order, what is judged, and when it was loaded."""

from dataclasses import dataclass

import numpy as np
import pandas as pd

from gelassen.core.foundation.caution import Caution
from gelassen.core.foundation.errors import InputError
from gelassen.core.foundation.inputs import Bools, Floats
from gelassen.core.recording.chips import chip_of
from gelassen.core.recording.judging import (
    HOTTEST_CORE,
    Judged,
    choose_reference,
    choose_temperature,
    is_coolant,
    with_mean_of_cores,
)
from gelassen.core.recording.load_span import (
    LoadSpan,
    alone_span,
    span_from_level,
    span_from_temperature,
)
from gelassen.core.recording.part_series import PartSeries, part_level, part_series
from gelassen.core.recording.recording import Recording
from gelassen.core.recording.series import mean_of, series_of
from gelassen.core.run.thresholds import Reference
from gelassen.core.settling.thresholds import Noted
from gelassen.core.signal.impossible import without_impossible


@dataclass(frozen=True, slots=True, kw_only=True)
class PreparedRun:
    """The readings of one run and what is judged; arrays have one entry a sample.

    Attributes
    ----------
    judged, reference, limit_c
        The temperature that is judged, the channel its rise is over, its limit in °C; None if unknown.
    temperature_c, reference_c, fan_rpm, work_per_s
        Readings; None where not logged.
    part
        What was logged of the part that is judged.
    load_s
        Start and end of the load, in s.
    """

    recording: Recording
    frame: pd.DataFrame
    times: Floats
    judged: Judged
    judged_by_default: bool
    reference: str | None
    limit_c: float | None
    temperature_c: Floats | None
    reference_c: Floats | None
    fan_rpm: Floats | None
    work_per_s: Floats | None
    part: PartSeries
    load_s: tuple[float, float]
    cautions: tuple[Caution, ...]

    @property
    def loaded(self) -> Bools:
        """Which samples lie in the load."""
        return self.within(self.load_s)

    @property
    def over_coolant(self) -> bool:
        """Whether rises are over coolant, which the load itself warms."""
        return bool(is_coolant(self.reference))

    @property
    def power_w(self) -> Floats | None:
        """Power of the judged part."""
        return self.part.power_w

    @property
    def readable_c(self) -> Floats | None:
        """The judged temperature; None if it has no reading under load."""
        if (
            self.recording.only_rested
            or self.temperature_c is None
            or not np.isfinite(self.temperature_c[self.loaded]).any()
        ):
            return None
        return self.temperature_c

    @property
    def bridged_reference_c(self) -> Floats | None:
        """The reference; what was not read is filled by straight lines."""
        if self.reference_c is None:
            return None
        known = np.isfinite(self.reference_c)
        return np.interp(self.times, self.times[known], self.reference_c[known])

    @property
    def mostly_read_reference_c(self) -> Floats | None:
        """The reference as read, or bridged where few samples have a reading of it."""
        read = None if self.reference_c is None else np.isfinite(self.reference_c)
        # What was only noted a few times is no course, and the steady state has a doubt for it.
        if read is None or read.mean() > Reference.MOSTLY_READ or read.sum() <= Noted.MOST:
            return self.reference_c
        return self.bridged_reference_c

    @property
    def bridged_rise(self) -> Floats | None:
        """The rise over the bridged reference, or the temperature where no reference was logged."""
        if self.temperature_c is None:
            return None
        reference = self.bridged_reference_c
        return self.temperature_c if reference is None else self.temperature_c - reference

    def within(self, span_s: tuple[float, float]) -> Bools:
        """Return which samples lie between two times."""
        return (self.times >= span_s[0]) & (self.times <= span_s[1])


def prepare_run(
    recording: Recording, channel: str | None, reference: str | None, limit_c: float | None
) -> PreparedRun:
    """Drop impossible readings, and choose what is judged.

    Parameters are those of `summarise_run`.
    """
    frame = with_mean_of_cores(recording.frame, channel)
    if frame.empty:
        why = "; ".join(map(str, recording.cautions))  # such as a file that cannot be read
        raise InputError(
            f"{recording.name or 'the recording'} holds no samples{f': {why}' if why else ''}"
        )
    # Plain Python strings are several times quicker as column names than pandas' own.
    frame = frame.set_axis(frame.columns.astype(object), axis="columns")
    frame, impossible = without_impossible(frame)
    times = frame.index.to_numpy(dtype=float)
    over = choose_reference(frame, reference or recording.reference, named=reference is not None)
    span = _load_span(recording, frame, times, channel)
    frame = _without_other_loads(frame, times, span, channel)
    times = frame.index.to_numpy(dtype=float)
    judged = choose_temperature(frame, (times >= span[0]) & (times <= span[1]), channel, over)
    temperature = None if judged.channel is None else series_of(frame, judged.channel)
    nothing = np.full(times.size, np.nan)
    return PreparedRun(
        recording=recording,
        frame=frame,
        times=times,
        judged=judged,
        judged_by_default=channel in (None, HOTTEST_CORE),
        reference=over,
        limit_c=_limit(recording, judged.channel, limit_c),
        temperature_c=temperature,
        reference_c=None if over is None else series_of(frame, over),
        fan_rpm=mean_of(frame, "fan.", ".speed_rpm", moving=True),
        work_per_s=series_of(frame, "load.work.rate_per_s"),
        part=part_series(
            frame, judged.channel or "", nothing if temperature is None else temperature
        ),
        load_s=span,
        cautions=(*recording.cautions, *impossible),
    )


def _limit(recording: Recording, channel: str | None, asked_c: float | None) -> float | None:
    """Return the limit that was asked for, else that of the judged part, else that of the run."""
    if asked_c is not None:
        return asked_c
    if channel is not None and channel in recording.limits_c:
        return recording.limits_c[channel]
    return recording.limit_c


def _levels(frame: pd.DataFrame, channel: str | None) -> list[Floats]:
    """Return what shows when parts worked, the judged part first."""
    parts = ("gpu", "cpu") if (channel or "").startswith("gpu.") else ("cpu", "gpu")
    asked = [(part, quantity) for part in parts for quantity in ("power_w", "load_pct")]
    chip = chip_of(channel or "")
    levels = [
        part_level(frame, part, quantity, chip if part == parts[0] else "")
        for part, quantity in asked
    ]
    return [level for level in levels if level is not None]


def _without_other_loads(
    frame: pd.DataFrame, times: Floats, span: tuple[float, float], channel: str | None
) -> pd.DataFrame:
    """Return the samples around the judged load. Another load in the log is no rest and no cooldown."""
    for level in _levels(frame, channel)[:1]:
        first, last = alone_span(times, level, span)
        return frame[(times >= first) & (times <= last)]
    return frame


def _load_span(
    recording: Recording, frame: pd.DataFrame, times: Floats, channel: str | None
) -> tuple[float, float]:
    known = recording.load_span_s()
    if known is not None:
        return known
    if recording.only_rested:
        return float(times[-1]), float(times[-1])
    span: LoadSpan | None = None
    for level in _levels(frame, channel):
        seen = span_from_level(times, level)
        # A part with constant power tells nothing if another one began to work.
        if seen is not None and (span is None or not (span.found_start or span.found_end)):
            span = seen
    if span is None:
        names = [n for n in frame.columns if n.endswith(".temp_c")]
        names = [n for n in names if frame[n].notna().any()]
        if not names:
            return float(times[0]), float(times[-1])
        spread = frame[names].max() - frame[names].min()
        widest = frame[str(spread.idxmax())].to_numpy(dtype=float)
        span = span_from_temperature(times, widest)
    return span.start_s, span.end_s
