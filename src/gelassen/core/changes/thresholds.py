"""Thresholds of changes in mid-run.

All come from changes of air, power and fans on random machines and the simulated bench, unless a
group says otherwise. They decide which changes are told, and how surely they are timed.
"""


class Alignment:
    """Two logs laid together by their changes. Source: pairs of simulated loggers."""

    MOST_POINTS = 1 << 17  # points of the common grid at most
    LEAST = 0.4  # correlation below which no common moment stands out
    RIVAL = 0.9  # share of the best correlation from which on another offset could be right as well


class Changes:
    """What is told of changes that several channels show."""

    SAME_CHANGE_S = 90.0  # s within which two changes are one
    LOGGED_NEAR_S = 90.0  # s by which a logged change may come before the temperature's
    LATE_S = 15.0  # s by which it may come after
    LEVEL_SHARE = 0.08  # share of the power from which on another level is a change
    GIVEN_BACK_S = 30.0  # s within which a governor gives power back
    CASE_CHANGE_K = 1.0  # K by which case air must change
    CASE_CHANGE_SHARE = 0.35  # share of its own range, likewise


class Logged:
    """Fans, flow and load that were logged and changed at once."""

    SHARE = 0.15  # share of the larger level that a change must be
    CLEAR = 5.0  # scatters of the readings that it must be
    WINDOW_S = 40.0  # s of the means on both sides
    AT_ONCE_S = 15.0  # s within which most of it must come
    MOST_AT_ONCE = 0.75  # share of it that must
    LASTING_S = 180.0  # s of the means that show whether it lasts
    LASTS = 0.6  # share of it that must
    LEFT = 0.2  # share of it up to which it has not begun
    MOST = 6  # changes of one channel at most: more is hunting
    APART_S = 60.0  # s between two changes of one channel
    FINE_S = 1.0  # s: readings closer together tell nothing more
    CURVE_S = 120.0  # s before a change over which a fan's temperature is looked at
    CURVE_K = 1.5  # K by which that moved if the fan only obeyed its curve


class Power:
    """Changes of power that were logged."""

    NEAR_S = 60.0  # s to a change of temperature within which power made it
    WINDOW_S = 60.0  # s of the means on both sides
    LEAST_SHARE = 0.03  # share of the power that a change must be
    CLEAR = 3.5  # scatters that it must be
    CLIMB_S = 30.0  # s at the start of a load in which power comes up
    BEYOND_WANDER = 6.0  # times the usual wander that a change must be
    APART_S = 120.0  # s between two changes
    MOST = 20  # changes at most


class Model:
    """The model of a course with changes."""

    # s: how a channel follows a change: time constant, and that of what comes before it
    WAYS_S = (
        (0.0, 0.0),
        (8.0, 0.0),
        (30.0, 0.0),
        (60.0, 12.0),
        (200.0, 12.0),
        (700.0, 12.0),
        (120.0, 45.0),
        (400.0, 45.0),
    )
    # s: time constants of straight approaches
    STRAIGHT_S = (25.0, 40.0, 60.0, 90.0, 135.0, 200.0, 300.0, 450.0, 700.0, 1100.0, 1800.0, 4000.0)
    BENT_S = (100.0, 200.0, 400.0, 800.0, 1600.0)  # s: time constants of bent approaches
    BEND = 0.6  # their bend
    AT_REST = 0.12  # share of the settled rise at rest
    QUICK_S = 120.0  # s: quicker parts may go the opposite way, as boosts and warm starts do
    ROUGH = 0.01  # share to which the course is trusted early on


class Search:
    """Which changes are believed."""

    EARLIEST_S = 90.0  # s of load before the first change
    MOMENTS = 48  # moments that are tried at first
    MOST_STEPS = 8  # changes at most
    # share of the smallest change to which an approach alone must come if there is none
    TRACE = 0.05
    SHARE_OF_APPROACH = 0.4  # share of what the approach had to go below which a change is left out
    MARGIN = 13.0  # log likelihood beyond chance that a change must explain
    NEEDED_FREE = 25.0  # the same beside a free course
    FREE_SIZE = 0.9  # share of the least size from which on that counts
    WORTH_REFINING = 0.8  # share of the needed gain from which on a moment is refined
    NOTED_S = 30.0  # s by which a noted moment may be off
    NEEDED_IF_TOLD = 14.0  # log likelihood that a noted change must explain
    WORTH_TRYING = 0.45  # share of that from which on it is tried
    HARDLY_FADED = 0.7  # memory of the noise below which it hides no change
    TRUST = 0.3  # weight of the evidence about a moment
    TRUST_IF_POWER_KNOWN = 0.5  # the same where power was logged


class Timing:
    """When a change was."""

    AT_ONCE = ((0.0, 0.0), (8.0, 0.0), (30.0, 0.0))  # s: ways in which a change is felt at once
    USUAL_S = 150.0  # s: usual time constant of a change
    USUAL_SPREAD = 0.8  # spread of its logarithm
    QUICK_SHARES = (0.2, 0.35, 0.5)  # shares that are felt at once after a change of power
    QUICK_S = 8.0  # s: time constant of that share
    WITH_QUICK = -1.0  # log weight of such a way
    THEN_FROM_S = 60.0  # s: shortest time constant of the rest
    THEN_S = 7.0  # s of what comes before it
    FREE_FROM_S = 20.0  # s: shortest time constant of the free course
    FREE_RATIO = 2.5  # ratio of its time constants
    FREE_UP_TO = 0.6  # share of the log up to which they go
    # s: ways in which other changes may be followed meanwhile
    BESIDE = ((0.0, 0.0), (30.0, 0.0), (100.0, 5.0), (300.0, 5.0))
    NOTHING = 1e-9  # size of a change that does not show
    UNLIKE = 0.1  # share by which two ways must differ
    SAME = 1e-7  # share of the largest direction below which one is left out


class Steps:
    """Which changes are told."""

    START_S = 60.0  # s at the start of a load in which nothing is a change
    SMALLEST = 0.03  # share of the whole course that a change must be
    COARSE_STEPS = 1.2  # steps of the sensor that it must be
    BINS = 400  # bins of the course
    READ_SHARE = 0.2  # share of a bin that must be read
    ENDED_SHARE = 0.4  # share of the log after which a load counts as ended
