"""Steps a fan through its duties: each lasts until it is known where the temperature settles."""

from gelassen.bench.interface import Bench
from gelassen.conduct.planning.plan import FanSteps
from gelassen.conduct.watching.background import Background
from gelassen.conduct.watching.history import History
from gelassen.conduct.watching.judged import Judged
from gelassen.core.foundation.errors import InputError
from gelassen.core.run.stretch_outlook import stretch_outlook
from gelassen.core.settling.outlook import Outlook

_FIRST_LOOK_S, _APART_S = 150.0, 30.0  # s into a duty, and between looks
_IN_A_ROW = 2  # one narrow interval among many looks may be chance


class FanStepper:
    """Decides which duty a fan has, and when the load may end. Used like a gate.

    Time that one duty does not need is left to those after it.
    """

    def __init__(
        self, steps: FanSteps, bench: Bench, history: History, judged: Judged, *, begin_s: float
    ) -> None:
        self._steps, self._history, self._judged = steps, history, judged
        self._begin_s = begin_s
        self._thinker: Background[tuple[int, Outlook | None]] = Background(bench)
        self._changes_s: list[float] = []
        self._next_s = begin_s + _FIRST_LOOK_S
        self._agreed = 0
        self._last: Outlook | None = None

    @property
    def duty_pct(self) -> float:
        """The duty that the fan should have now."""
        return self._steps.duties_pct[len(self._changes_s)]

    @property
    def outlook(self) -> Outlook | None:
        """What is known so far of the steady state at the present duty."""
        return self._last

    @property
    def waits_for(self) -> str:
        """What it waits for, in words."""
        duties = self._steps.duties_pct
        by_now = "" if self._last is None else f"; so far {self._last}"
        return (
            f"duty {len(self._changes_s) + 1} of {len(duties)} ({self.duty_pct:g} %), until known to "
            f"±{100 * self._steps.within:g} %{by_now}"
        )

    @property
    def ending(self) -> str:
        """What ends the phase if it ends now, as one of `ENDINGS`."""
        return "known"

    def time_up(self) -> str:
        """Return the message for duties that took the longest allowed time."""
        return f"time limit, at the last duty: {self._last or 'not yet known'}"

    def close(self) -> None:
        """Release the thread."""
        self._thinker.close()

    def offer(self, now_s: float) -> str:
        """Go on to the next duty where this one is known; return what ends the load, if anything does."""
        self._learn()
        begun_s = self._changes_s[-1] if self._changes_s else self._begin_s
        left = len(self._steps.duties_pct) - len(self._changes_s)
        share_s = (self._begin_s + self._steps.at_most_s - begun_s) / left
        if self._agreed >= _IN_A_ROW or (left > 1 and now_s - begun_s >= share_s):
            if left == 1:
                return f"known at each duty; at the last: {self._last}"
            self._changes_s.append(now_s)
            self._agreed, self._last = 0, None
            self._next_s = now_s + _FIRST_LOOK_S
        elif not self._thinker.busy and now_s >= self._next_s:
            self._next_s = now_s + _APART_S
            self._thinker.ask(self._look)
        return ""

    def _learn(self) -> None:
        number, answer = self._thinker.answer() or (-1, None)
        # An answer may come late, when the next duty is set already: it says nothing of that.
        if answer is None or number != len(self._changes_s):
            return
        self._last = answer
        enough = answer.within <= self._steps.within * abs(answer.value)
        self._agreed = self._agreed + 1 if enough else 0

    def _look(self) -> tuple[int, Outlook | None]:
        """Return the number of the present duty, and its steady state as far as it is known."""
        judged, changes_s = self._judged, tuple(self._changes_s)
        frame = self._history.since(self._begin_s - 60.0)
        try:
            found = stretch_outlook(
                frame, self._begin_s, changes_s, channel=judged.channel,
                reference=judged.reference, limit_c=judged.limit_c,
            )  # fmt: skip
        except InputError:  # a channel that is not there
            found = None
        return len(changes_s), found
