"""Thresholds for grouping the runs of a study, and for corrections of the room.

Source of all: studies of the simulated bench. Priors of rigs and rooms are in the core
(`core/comparing/priors.py`, `core/thermal/priors.py`).
"""


class Rooms:
    """Rises corrected to one room. They decide about the caution."""

    WORTH_A_WORD_K = 0.1  # K: a correction below this gets no caution
    SIGMAS_95 = 1.96  # standard deviations on each side of a 95 % interval


class Powers:
    """Runs at several powers. They decide which runs are compared."""

    NEAR_SETUPS = 0.2  # share by which setups that were meant to draw the same power may differ
    NEAR_LEVELS = 0.1  # the same for levels of one run: leakage moves them by less
    NEAR_RUNS = 0.15  # the same for separate runs, which scatter more
    LEAST_SETUPS = 0.5  # share of the setups that must have several powers


class MeanPower:
    """Means of loads that come and go, at one power.

    Source: convention.
    """

    BY_CHANCE = 0.05  # probability with which alike setups are taken to draw unlike powers
    WORTH_A_WORD_K = 0.05  # K: a smaller move does not show in the numbers


class Scale:
    """Setups along a scale."""

    SAME_PLACE = 0.01  # share by which two setups at one place of the scale may differ


class Supply:
    """What a supply gives. Source: the usual derating of supplies by 20 %. It decides about the caution."""

    KEPT_FREE = 0.2  # share of what a supply is rated for that is kept free
