"""How the states of a chip follow each other."""

import numpy as np

from gelassen.core.foundation.inputs import Floats
from gelassen.core.throttling.readings import Readings
from gelassen.core.throttling.states import Courses, State
from gelassen.core.throttling.thresholds import Moves


def moves(log: Readings, courses: Courses) -> tuple[Floats, Floats]:
    """Return the probabilities of moving between states, and of each state at the start of a load.

    Shapes (n, 5, 5) and (5,): from, to the sample; and state.
    """
    away_s = np.diff(log.times, prepend=log.times[0] - log.gap_s).clip(min=0)

    def within(rate: float) -> Floats:
        return np.asarray(-np.expm1(-rate * away_s))

    has_limit = courses.limit is not None
    size = log.times.size
    made = np.full((size, len(State), len(State)), Moves.ANY)
    if has_limit:
        # At the temperature limit, heat is the likelier cause.
        cool = np.where(log.near, Moves.AT_LIMIT, 1.0)
        ends = within(Moves.END_BOOST)
        made[:, State.BOOST, State.FREE], made[:, State.BOOST, State.POWER] = ends, ends * cool
        made[:, State.FREE, State.POWER] = within(Moves.TO_LIMIT) * cool
        made[:, State.HEAT, State.POWER] = within(Moves.TO_LIMIT)
        made[:, State.OTHER, State.POWER] = within(Moves.END_OTHER)
    made[:, :, State.OTHER] = Moves.TO_OTHER
    made[:, State.POWER, State.FREE] = within(Moves.LEAVE_LIMIT)
    for state in State:
        if state is not State.HEAT:
            made[:, state, State.HEAT] = np.where(log.reached, within(courses.to_heat), Moves.ANY)
    made[:, State.HEAT, State.FREE] = within(courses.back)
    made[:, State.OTHER, State.FREE] = within(max(courses.back, Moves.END_OTHER))
    for state in State:
        made[:, state, state] = 0.0
        made[:, state, state] = np.maximum(1 - made[:, state].sum(axis=1), Moves.ANY)
    first = np.array(Moves.FIRST if has_limit else Moves.FIRST_FREE)
    if log.power is None:
        first[State.POWER] *= Moves.PINNED_UNSEEN
    first = first / first.sum()
    rests = ~log.loaded
    forgotten = within(Moves.RESTS)[rests, None, None]
    made[rests] = (1 - forgotten) * np.eye(len(State)) + forgotten * first
    begins = int(np.argmax(log.loaded))
    made[: begins + 1] = first
    return made / made.sum(axis=2, keepdims=True), first
