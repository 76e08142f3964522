"""The log of one load, checked: what a steady state is found from."""

from dataclasses import dataclass, replace

import numpy as np

from gelassen.core.foundation.caution import Caution, caution
from gelassen.core.foundation.errors import InputError
from gelassen.core.foundation.inputs import (
    Bools,
    Floats,
    SeriesLike,
    as_series,
    as_time,
    need_readings,
)
from gelassen.core.recording.load_span import (
    LoadSpan,
    in_bursts,
    span_from_level,
    span_from_temperature,
)
from gelassen.core.settling.thresholds import Enough, Noted
from gelassen.core.signal.grid import make_grid
from gelassen.core.signal.noise import quantisation_error, step_size
from gelassen.core.signal.renewal import without_held
from gelassen.core.signal.unread import without_not_read
from gelassen.core.thermal.heating_fit import LoadOnGrid


@dataclass(frozen=True, slots=True, kw_only=True)
class LoadLog:
    """Readings of one load, one entry a sample; None where they were not logged or say nothing."""

    times: Floats
    temperature: Floats
    reference: Floats | None
    power: Floats | None
    span: LoadSpan
    noted_k: float  # standard error of a reference that was only noted by hand
    bursts: bool  # the load came in bursts, so that its power does not tell the mean
    cautions: tuple[Caution, ...]

    @property
    def unit(self) -> str:
        """The unit of the answer."""
        return "°C" if self.reference is None else "K"

    @property
    def length_s(self) -> float:
        """How long the load ran."""
        return self.span.end_s - self.span.start_s

    @property
    def read(self) -> Bools:
        """Which samples under load have a temperature."""
        times, span = self.times, self.span
        return (times >= span.start_s) & (times <= span.end_s) & np.isfinite(self.temperature)

    @property
    def is_short(self) -> bool:
        """Whether there is too little of the load to answer anything."""
        read = self.read
        return bool(
            read.sum() < Enough.FEWEST_READINGS or np.ptp(self.times[read]) < Enough.SHORTEST_S
        )

    @property
    def last_c(self) -> float:
        """The last reading of the temperature under load, in °C."""
        return float(self.temperature[self.read][-1])

    @property
    def never_moved(self) -> bool:
        """Whether all readings are the same in a log that shows no rest: nothing tells a settled part."""
        present = np.isfinite(self.temperature)
        rested = present & (self.times < self.span.start_s - Enough.REST_S)
        return not rested.any() and bool(np.ptp(self.temperature[present]) == 0)

    @property
    def took_notice(self) -> bool:
        """Whether the temperature responded to a load that began within the log."""
        present = np.isfinite(self.temperature)
        rested = present & (self.times < self.span.start_s - Enough.REST_S)
        still = np.ptp(self.temperature[present]) == 0
        return not (self.span.found_start and rested.any() and still)

    @property
    def too_few(self) -> Caution:
        """How little of the load was read."""
        return caution(
            "too_few_readings",
            count=int(self.read.sum()),
            length_s=self.length_s,
            least=Enough.FEWEST_READINGS,
            least_s=Enough.SHORTEST_S,
        )

    @property
    def last_reading(self) -> float:
        """The last reading under load, over the reference where there is one."""
        series = self.temperature
        if self.reference is not None:
            present = np.isfinite(self.reference)
            series = series - np.interp(self.times, self.times[present], self.reference[present])
        inside = np.isfinite(series) & (self.times <= self.span.end_s)
        return float(series[inside][-1]) if inside.any() else float(np.nanmean(series))

    def on_grid(self) -> LoadOnGrid | None:
        """Return the log on even steps of time; None if too few steps of the load have a reading."""
        # No finer than the temperature was read: filled-in values would look like noise-free readings.
        grid = make_grid(self.times[np.isfinite(self.temperature)], self.span.end_s)
        curve = grid.averaged(self.times, self.temperature)
        late = grid.times_s >= (self.span.start_s + self.span.end_s) / 2
        if np.isfinite(curve).sum() < Enough.FEWEST_READINGS or not np.isfinite(curve[late]).any():
            return None
        return LoadOnGrid(
            grid=grid,
            temperature=curve,
            room=None if self.reference is None else grid.filled(self.times, self.reference),
            watts=None if self.power is None else grid.filled(self.times, self.power),
            hidden_k=self._hidden_by_steps(),
            varies=self.bursts and self.power is not None,
        )

    def _hidden_by_steps(self) -> float:
        """Return the error that the steps of both sensors hide near the end, as a standard error in K."""
        loaded = (self.times >= self.span.start_s) & (self.times <= self.span.end_s)
        late = loaded & (self.times >= (self.span.start_s + self.span.end_s) / 2)
        room_k = self.noted_k
        if self.reference is not None and not room_k:
            room_k = _hidden(self.reference, loaded)
        return float(np.hypot(_hidden(self.temperature, late), room_k))


def _hidden(series: Floats, where: Bools) -> float:
    """Return the error that steps hide in a part of a series; the whole series shows the steps."""
    return quantisation_error(series[where], step_size(series) or None)


def read_load_log(
    time_s: SeriesLike,
    temperature_c: SeriesLike,
    reference_c: SeriesLike | None,
    power_w: SeriesLike | None,
    load_start_s: float | None,
    load_end_s: float | None,
    *,
    reference_se_k: float | None = None,
) -> LoadLog:
    """Check the series of `steady_state`, and find when the load ran."""
    times = as_time(time_s)
    temperature = as_series("temperature_c", temperature_c, like=times)
    need_readings("temperature_c", temperature)
    reference = None if reference_c is None else as_series("reference_c", reference_c, like=times)
    power = None if power_w is None else as_series("power_w", power_w, like=times)
    noted_k = 0.0
    temperature, cautions = without_not_read("the temperature", times, temperature)
    temperature = without_held(temperature)
    if reference is not None:
        need_readings("reference_c", reference)
        reference, not_read = without_not_read("the reference", times, reference)
        noted = int(np.isfinite(reference).sum())
        if noted <= Noted.MOST < times.size:
            noted_c = float(np.nanmean(reference))
            reference = np.full_like(reference, noted_c)
            stated = reference_se_k is not None
            noted_k = reference_se_k if reference_se_k is not None else Noted.ERROR_K
            code = "reference_stated" if stated else "reference_noted"
            cautions += [*not_read, caution(code, count=noted, error_k=noted_k)]
        else:
            cautions += [*not_read, *_reference_cautions(reference)]
    if power is not None and not np.isfinite(power).any():
        power = None
        cautions.append(caution("power_not_read"))
    elif power is not None and not np.nanmax(power) > 0:
        power = None
        cautions.append(caution("power_never_above_zero"))
    span = _load_span(times, temperature, power, load_start_s, load_end_s)
    inside = (times >= span.start_s) & (times <= span.end_s) & np.isfinite(temperature)
    bursts = power is not None and in_bursts(times[inside], power[inside])
    if bursts:
        cautions.append(caution("load_in_bursts"))
    after_s = max(Enough.AFTER_S, Enough.AFTER_SHARE * (span.end_s - span.start_s))
    if span.found_end and times[-1] - span.end_s > after_s:
        cautions.append(caution("load_ended", at_s=span.end_s))
    return LoadLog(
        times=times,
        temperature=temperature,
        reference=reference,
        power=power,
        span=span,
        noted_k=noted_k,
        bursts=bursts,
        cautions=tuple(cautions),
    )


def _load_span(
    times: Floats,
    temperature: Floats,
    power: Floats | None,
    load_start_s: float | None,
    load_end_s: float | None,
) -> LoadSpan:
    span = None if power is None else span_from_level(times, power)
    span = span or span_from_temperature(times, temperature)
    if load_end_s is not None:
        start_s = span.start_s if load_start_s is None else load_start_s
        if not start_s < load_end_s <= times[-1] + 1:
            raise InputError(
                f"load_end_s is {load_end_s:g} s; the load began at {start_s:g} s and the log ends at "
                f"{times[-1]:g} s"
            )
        span = LoadSpan(span.start_s, float(load_end_s), span.found_start, False)
    if load_start_s is None:
        return span
    if not times[0] - 1 <= load_start_s < times[-1]:
        raise InputError(
            f"load_start_s is {load_start_s:g} s; the log runs from {times[0]:g} to {times[-1]:g} s"
        )
    if span.end_s <= load_start_s:
        return LoadSpan(float(load_start_s), float(times[-1]), True, False)
    return replace(span, start_s=float(load_start_s), found_start=True)


def _reference_cautions(reference: Floats) -> list[Caution]:
    missing = float(np.mean(~np.isfinite(reference)))
    if missing > Enough.MISSING_SHARE:
        return [caution("reference_missing", percent=100 * missing)]
    return []
