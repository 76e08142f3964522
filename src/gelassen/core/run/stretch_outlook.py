"""Where the last stretch of an unfinished run will settle, by the same method as in a finished run."""

from collections.abc import Sequence

import pandas as pd

from gelassen.core.foundation.errors import InputError
from gelassen.core.recording.recording import Phase, Recording
from gelassen.core.run.prepared import prepare_run
from gelassen.core.run.stretches import answer_stretches
from gelassen.core.settling.outlook import Outlook, widened_for_looking

_CONFIDENCE = 0.95


def stretch_outlook(
    frame: pd.DataFrame,
    load_start_s: float,
    changes_s: Sequence[float],
    *,
    channel: str | None = None,
    reference: str | None = None,
    limit_c: float | None = None,
) -> Outlook | None:
    """Say where the last stretch of a load settles; None if it is too short or has no temperature.

    `changes_s` are the times in s at which conditions changed during the load. All else is as in
    `outlook`, which answers a load without changes.
    """
    end_s = float(frame.index[-1])
    recording = Recording(
        frame=frame, phases=(Phase("soak", load_start_s, end_s),), reference=reference
    )
    run = prepare_run(recording, channel, None, limit_c)
    try:
        stretches = answer_stretches(run, changes_s, _CONFIDENCE, None)
    except InputError:  # too short yet
        return None
    if not stretches or run.judged.channel is None:
        return None
    steady = widened_for_looking(stretches[-1].steady)
    return Outlook(
        value=steady.value, low=steady.low, high=steady.high, within=(steady.high - steady.low) / 2,
        unit=steady.unit, at_limit=steady.limited, channel=run.judged.channel,
    )  # fmt: skip
