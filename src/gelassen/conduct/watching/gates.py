"""When a phase may end: gates that look at the readings now and then."""

from collections.abc import Callable

from gelassen.bench.interface import Bench
from gelassen.conduct.watching.background import Background
from gelassen.conduct.watching.history import History
from gelassen.conduct.watching.judged import Judged
from gelassen.core.foundation.errors import InputError
from gelassen.core.recording.chips import core_channels
from gelassen.core.recording.judging import (
    MEAN_OF_CORES,
    choose_reference,
    choose_temperature,
    with_mean_of_cores,
)
from gelassen.core.recording.series import series_of
from gelassen.core.settling.outlook import Outlook, outlook
from gelassen.core.settling.resting_temperature import Rest, at_rest
from gelassen.study.file.gate import RESTED, Gate

# The time between looks is this share of the time so far, since later looks find less news. The bound on
# their number keeps our own computing from warming a real machine.
_GROWTH, _APART_S = 0.08, 20.0
_REST_APART_S = 20.0
# One narrow interval among many looks may be chance, so the next must agree.
_IN_A_ROW = 2
_POWER_SHARE = 0.01


class PhaseEnd:
    """Decides when a gated phase ends.

    `offer` takes each moment and returns why the phase ends, or nothing; `waits_for` says in words what
    is still missing.
    """

    def __init__(
        self, gate: Gate, bench: Bench, history: History, judged: Judged,
        *, begin_s: float, load_start_s: float | None,
    ) -> None:  # fmt: skip
        self._gate, self._history, self._judged = gate, history, judged
        self._begin_s = begin_s
        self._since_s = begin_s if load_start_s is None else load_start_s
        self._thinker: Background[Outlook | Rest | None] = Background(bench)
        self._next_s = self._since_s + gate.at_least
        self._agreed = 0
        self._last: Outlook | Rest | None = None
        self._question: Callable[[], Outlook | Rest | None]
        self._question = self._rest if gate.until == RESTED else self._outlook
        self._next_s = begin_s if gate.until == RESTED else self._next_s

    @property
    def outlook(self) -> Outlook | None:
        """What is known of the steady state so far."""
        return self._last if isinstance(self._last, Outlook) else None

    @property
    def waits_for(self) -> str:
        """What the phase waits for, and how far it is."""
        if self._gate.until == RESTED:
            return f"waits for rest: {self._last or 'watching'}"
        by_now = "" if self._last is None else f"; so far {_by_now(self._last)}"
        return f"waits until the steady rise is known to ±{self._gate.within_k:g} K{by_now}"

    @property
    def ending(self) -> str:
        """What ends the phase if it ends now, as one of `ENDINGS`."""
        return "rested" if self._gate.until == RESTED else "known"

    def offer(self, now_s: float) -> str:
        """Return what ends the phase at this moment; empty if it goes on."""
        answer = self._thinker.answer()
        if answer is not None:
            self._last = answer
            self._agreed = self._agreed + 1 if self._enough(answer) else 0
        elapsed = now_s - self._begin_s
        if self._agreed >= self._needed and elapsed >= self._gate.at_least:
            return self._reason()
        if not self._thinker.busy and now_s >= self._next_s:
            passed = now_s - self._since_s
            apart = _REST_APART_S if self._gate.until == RESTED else max(_GROWTH * passed, _APART_S)
            self._next_s = now_s + apart
            self._thinker.ask(self._question)
        return ""

    def time_up(self) -> str:
        """Return the message for a phase that took its longest allowed time."""
        return "time limit: " + ("not yet known" if self._last is None else self._still(self._last))

    def close(self) -> None:
        """Release what the gate holds."""
        self._thinker.close()

    @property
    def _needed(self) -> int:
        return 1 if self._gate.until == RESTED else _IN_A_ROW

    def _enough(self, answer: Outlook | Rest) -> bool:
        if isinstance(answer, Rest):
            return answer.rested
        asked = _POWER_SHARE * abs(answer.value) if answer.unit == "W" else self._gate.within_k
        return answer.within <= asked

    def _reason(self) -> str:
        return "at rest" if isinstance(self._last, Rest) else f"known: {_by_now(self._last)}"

    def _still(self, last: Outlook | Rest) -> str:
        return str(last) if isinstance(last, Rest) else _by_now(last)

    def _outlook(self) -> Outlook | None:
        judged = self._judged
        # A little before the load is needed to see where it began.
        frame = self._history.since(self._since_s - 60.0)
        try:
            return outlook(
                frame, self._since_s, channel=judged.channel, reference=judged.reference,
                limit_c=judged.limit_c,
            )  # fmt: skip
        except (
            InputError
        ):  # a channel that is not there: then nothing is known before the time limit
            return None

    def _rest(self) -> Rest | None:
        frame = self._history.since(self._since_s)
        over = choose_reference(frame, self._judged.reference, named=False)
        # At rest all cores are alike, and their mean is less coarse than one of them.
        channel = MEAN_OF_CORES if core_channels(frame) else None
        frame = with_mean_of_cores(frame, channel)
        chosen = choose_temperature(frame, frame.index >= self._since_s, channel, over).channel
        temperature = None if chosen is None else series_of(frame, chosen)
        if temperature is None:
            return None
        room = None if over is None else series_of(frame, over)
        try:
            return at_rest(
                frame.index.to_numpy() - self._since_s,
                temperature if room is None else temperature - room,
                band_k=self._gate.within_k, known_level_k=self._judged.rest_k,
            )  # fmt: skip
        except InputError:
            return None


def _by_now(last: Outlook | Rest | None) -> str:
    if not isinstance(last, Outlook):
        return str(last or "")
    if last.within == float("inf"):
        return "cannot tell yet"
    held = " (held at its limit)" if last.at_limit else ""
    return f"{last.value:.1f} ±{last.within:.1f} {last.unit}{held}"
