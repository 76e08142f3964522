"""Thresholds of which runs of a study belong together, and what is worth saying of their rooms.

Source of all: studies of the simulated bench. Priors of rigs and rooms stand in the core
(`core/comparing/priors.py`, `core/thermal/priors.py`).
"""


class Rooms:
    """Rises brought to one room. They decide what is said of it."""

    WORTH_A_WORD_K = 0.1  # K: what moves no rise by more is not worth a word
    SIGMAS_95 = 1.96  # standard deviations on each side of a 95 % interval


class Powers:
    """Runs at several powers. They decide which runs are compared."""

    NEAR_SETUPS = 0.2  # share by which setups that were meant to draw the same power may differ
    NEAR_LEVELS = 0.1  # share by which levels of one run may: a leaking chip moves them by less
    NEAR_RUNS = 0.15  # share by which runs of their own may: they scatter more
    LEAST_SETUPS = 0.5  # share of the setups that must have several powers


class Scale:
    """Setups along a scale."""

    SAME_PLACE = 0.01  # share by which two setups at one place of the scale may differ
