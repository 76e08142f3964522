"""Finds the capacity of a setup in one run. The power climbs, and each step uses what was learnt.

Each step is as high as is safe. The temperature must almost surely be below the limit at the next look,
and no step should pass the capacity as known so far. If the temperature is about to pass the limit, the
power goes down. The climb ends when the capacity is known well enough.
"""

import math
from collections.abc import Mapping
from dataclasses import dataclass

from gelassen.bench.interface import Bench
from gelassen.conduct.planning.climb_plan import ClimbPlan
from gelassen.conduct.watching.background import Background
from gelassen.conduct.watching.history import History
from gelassen.conduct.watching.judged import Judged
from gelassen.core.capacity.from_climb import ClimbCapacity, capacity_from_climb
from gelassen.core.foundation.errors import InputError
from gelassen.core.recording.chips import core_channels
from gelassen.core.recording.judging import choose_reference, choose_temperature
from gelassen.core.recording.series import series_of

_FIRST_LOOK_S, _APART_S = 150.0, 40.0
_AHEAD_S = 150.0  # a step must be safe for so long
_BELOW_K = 0.3  # and stay so far below
_MOST_UP = 2.0
_LEAST_UP = 1.012
_DOWN = 0.96
_TOWARDS = 0.975  # of the capacity as known so far
_NEAR = 0.88  # an answer counts from this share on: below it, it is extrapolated
_SHOWN, _SHOWN_S = 1.5, 420.0
_IN_A_ROW, _FOR_LOOKING = 2, 1.05
_AT_ONCE_K = 0.3  # this close to the limit there is no waiting
_FLICKER = 10
_DRAWN = 0.94  # of the power that was set: a machine that draws less cannot draw more
_BY_HAND, _PATIENCE_S = 0.08, 600.0
_POWER = "cpu.package.power_w"


class Climb:
    """Decides on the power of a run, and when it ends. Used like a gate."""

    def __init__(
        self, plan: ClimbPlan, bench: Bench, history: History, judged: Judged, *, begin_s: float
    ) -> None:
        self._plan, self._history, self._judged = plan, history, judged
        self._begin_s = begin_s
        self._thinker: Background[_Look | None] = Background(bench)
        self._power_w = plan.from_w
        self._told_w = math.nan
        self._step_s = begin_s
        self._next_s = begin_s + _FIRST_LOOK_S
        self._agreed = 0
        self._ends = ""
        self._last: ClimbCapacity | None = None

    @property
    def outlook(self) -> ClimbCapacity | None:
        """What is known of the capacity so far."""
        return self._last

    @property
    def waits_for(self) -> str:
        """What it waits for, in words."""
        if self._plan.by_hand and not self._set_by_hand():
            return f"set {self._plan.channel} to {self._power_w:g} W by hand"
        by_now = "" if self._last is None else f"; so far {_in_short(self._last)}"
        until = f"until known to ±{100 * self._plan.within:g} %"
        return f"the power climbs, now {self._power_w:.0f} W, {until}{by_now}"

    def time_up(self) -> str:
        """Return the message for a climb that took its longest allowed time."""
        return "time limit: " + ("cannot tell" if self._last is None else str(self._last))

    def close(self) -> None:
        """Release the thread."""
        self._thinker.close()

    def first(self) -> Mapping[str, float]:
        """Return what to set before the load begins."""
        self._told_w = self._power_w
        return {} if self._plan.by_hand else {self._plan.channel: self._power_w}

    def wanted(self, now_s: float) -> Mapping[str, float]:
        """Return the settings to make now; empty if nothing changes.

        A setting made by hand becomes an event.
        """
        self._learn(now_s)
        # Single readings flicker. A chip without its own limit must not wait for their mean.
        late = self._hottest(_FLICKER) >= self._ceiling_c - _AT_ONCE_K
        if (late or self._hottest() >= self._ceiling_c + 1) and now_s - self._step_s > 20:
            drawn = self._drawn(10)
            base = min(self._power_w, drawn) if drawn > 0 else self._power_w
            self._step(now_s, _DOWN * base)
        if self._power_w == self._told_w:
            return {}
        self._told_w = self._power_w
        return {self._plan.channel: self._power_w}

    @property
    def by_hand(self) -> bool:
        """Whether the power is set by hand."""
        return self._plan.by_hand

    @property
    def ending(self) -> str:
        """What ends the phase if it ends now, as one of `ENDINGS`."""
        return "climbed"

    def offer(self, now_s: float) -> str:
        """Return what ends the climb; empty if it goes on."""
        if self._ends:
            return self._ends
        # The tester may be slow, or may have set a power that the machine does not draw.
        patient = now_s - self._step_s < _PATIENCE_S
        waits = self._plan.by_hand and patient and not self._set_by_hand()
        if not self._thinker.busy and now_s >= self._next_s and not waits:
            self._next_s = now_s + _APART_S
            self._thinker.ask(self._look)
        return ""

    # -- decisions -----------------------------------------------------------------------------------

    def _learn(self, now_s: float) -> None:
        look = self._thinker.answer()
        if look is None or look.capacity.draws is None:
            return
        known = self._last = look.capacity
        near = self._power_w >= _NEAR * known.power_w
        # Fan curves have kinks, so the last step itself must have shown where it settles.
        shown = now_s - self._step_s >= min(_SHOWN * known.slowest_s, _SHOWN_S)
        enough = known.within * _FOR_LOOKING <= self._plan.within and near and shown
        self._agreed = self._agreed + 1 if enough else 0
        if self._agreed >= _IN_A_ROW:
            self._ends = f"known: {known}"
            return
        if now_s - self._step_s < _FIRST_LOOK_S:
            return
        target = self._ceiling_c - look.room_c
        hot = known.rise_after(self._power_w, _AHEAD_S, 0.5) > target - _AT_ONCE_K
        if hot or self._power_w > 1.02 * known.power_w:
            self._step(now_s, min(_TOWARDS * known.power_w, _DOWN * self._power_w))
            return
        most = self._plan.to_w
        if self._power_w >= most and known.rise_at(most, 0.975) < target:
            self._ends = f"holds {most:g} W, the most that was asked for"
            return
        drawn = self._drawn(60)
        if drawn < _DRAWN * self._power_w and self._hottest() < self._ceiling_c - 3:
            self._ends = f"the machine draws no more than {drawn:.0f} W; it holds that"
            return
        up = min(_TOWARDS * known.power_w, _MOST_UP * self._power_w, most)
        while up > _LEAST_UP * self._power_w and (
            known.rise_after(up, _AHEAD_S, 0.975) > target - _BELOW_K
        ):
            up *= 0.97
        if up > _LEAST_UP * self._power_w or (up == most and up > self._power_w):
            self._step(now_s, up)

    def _step(self, now_s: float, power_w: float) -> None:
        low = min(self._plan.from_w, self._power_w)
        wanted = round(min(max(power_w, 0.5 * low), self._plan.to_w))
        if wanted != round(self._power_w):
            self._power_w, self._step_s = float(wanted), now_s
            self._next_s = now_s + _FIRST_LOOK_S

    @property
    def _ceiling_c(self) -> float:
        return min(self._plan.limit_c, self._plan.never_c)

    # -- readings ------------------------------------------------------------------------------------

    def _hottest(self, samples: int = 1) -> float:
        """Return the hottest processor temperature, on average over some samples."""
        seen = []
        for row in self._history.newest(samples):
            temps = [v for n, v in row.items() if n.startswith("cpu.") and n.endswith(".temp_c")]
            seen.append(max((value for value in temps if value == value), default=math.nan))
        known = [value for value in seen if value == value]
        return sum(known) / len(known) if known else -math.inf

    def _drawn(self, samples: int) -> float:
        known = [w for w in self._history.last(_POWER, samples) if w == w]
        return sum(known) / len(known) if known else math.inf

    def _set_by_hand(self) -> bool:
        """Return whether the power drawn follows the power that was set."""
        return abs(self._drawn(5) / self._power_w - 1) <= _BY_HAND

    def _look(self) -> "_Look | None":
        judged = self._judged
        frame = self._history.since(self._begin_s - 120.0)
        over = choose_reference(frame, judged.reference, named=False)
        late = frame.index.to_numpy() >= self._begin_s
        channel = judged.channel if judged.channel in frame.columns else None
        chosen = choose_temperature(frame, late, channel, over).channel
        power = series_of(frame, _POWER)
        if chosen is None or power is None or over is None:
            return None
        room = frame[over].interpolate(limit_direction="both")
        # The hottest core changes. The hottest one of the last minutes meets the limit.
        cores = [n for n in core_channels(frame) if frame[n].notna().any()]
        if cores and channel is None:
            chosen = str(frame[cores].iloc[-120:].mean().idxmax())
        room_c = float(room.iloc[-60:].mean())
        try:
            found = capacity_from_climb(
                frame.index.to_numpy(), power, frame[chosen] - room,
                limit_c=self._plan.limit_c, ambient_c=room_c,
            )  # fmt: skip
        except InputError:
            return None
        return _Look(found, room_c)


def _in_short(known: ClimbCapacity) -> str:
    if math.isfinite(known.high_w):
        return f"good for {known.power_w:.0f} W ({known.low_w:.0f} to {known.high_w:.0f} W)"
    return f"good for {known.low_w:.0f} W at least"


@dataclass(frozen=True, slots=True)
class _Look:
    capacity: ClimbCapacity
    room_c: float
