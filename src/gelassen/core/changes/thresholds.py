"""Thresholds of changes in mid-run.

All come from changes of air, power and fans on random machines and the simulated bench, unless a
group says otherwise. They decide which changes are reported, and how precise their times are.
"""


class Alignment:
    """Two logs aligned by their changes. Source: pairs of simulated loggers."""

    MOST_POINTS = 1 << 17  # points of the common grid at most
    FEWEST = 5  # samples that are needed
    # s of a slow response: window of the changes, and how much later its level comes, in shares of it
    WINDOW, LATER = 2.5, 0.75
    LEAST = 0.4  # correlation below which no common moment stands out
    RIVAL = 0.9  # share of the best correlation above which another offset is possible


class Changes:
    """Changes that several channels show."""

    SAME_CHANGE_S = 90.0  # s within which two changes are one
    LOGGED_NEAR_S = 90.0  # s: a logged change may be this much before the temperature's
    LATE_S = 15.0  # s: or this much after it
    LEVEL_SHARE = 0.08  # share of the power above which another level is a change
    GIVEN_BACK_S = 30.0  # s within which a governor raises power again
    CASE_CHANGE_K = 1.0  # K by which case air must change
    CASE_CHANGE_SHARE = 0.35  # share of its own range, likewise


class Logged:
    """Sudden changes of logged fans, flow and load."""

    SHARE = 0.15  # share of the larger level that a change must be
    CLEAR = 5.0  # in standard deviations of the readings, likewise
    WINDOW_S = 40.0  # s of the means on both sides
    AT_ONCE_S = 15.0  # s within which most of the change must happen
    MOST_AT_ONCE = 0.75  # the share of it that must
    LASTING_S = 180.0  # s of the means that show whether it lasts
    LASTS = 0.6  # share of the change that must last
    LEFT = 0.2  # share of the change below which it has not begun
    MOST = 6  # changes of one channel at most: with more it swings
    APART_S = 60.0  # s between two changes of one channel
    FINE_S = 1.0  # s: closer readings add nothing
    CURVE_S = 120.0  # s before a change over which a fan's temperature is compared
    CURVE_K = 1.5  # K that the temperature moves if the fan only follows its curve


class Power:
    """Changes of power that were logged."""

    NEAR_S = 60.0  # s within which a change of power explains a change of temperature
    WINDOW_S = 60.0  # s of the means on both sides
    LEAST_SHARE = 0.03  # share of the power that a change must be
    CLEAR = 3.5  # in standard deviations, likewise
    CLIMB_S = 30.0  # s at the start of a load in which power comes up
    BEYOND_WANDER = 6.0  # in units of the usual wander, likewise
    APART_S = 120.0  # s between two changes
    MOST = 20  # changes at most


class Model:
    """The model of a course with changes."""

    # s: how a channel may follow a change: its time constant, and that of a lag before it
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
    QUICK_S = 120.0  # s: faster parts may have the opposite sign, as with boosts and warm starts


class Search:
    """Which changes are accepted."""

    EARLIEST_S = 90.0  # s of load before the first change
    LATEST_S = 20.0  # s before the end after which no change is looked for
    LATEST_SHARE = 0.01  # share of the log, if that is longer
    APART_S = 30.0  # s between two changes
    APART_SHARE = 0.02  # share of the log, if that is longer
    # memories of the noise that are tried if the changes themselves look like noise
    SHORT_MEMORY, SHORTER_MEMORY = 0.9, 0.6
    NOTED_SIZE = 0.5  # share of the smallest size that a noted change must have
    LARGEST = 1.2  # times the range of the log: a larger change is none
    OUTSIDE = 0.01  # probability at the edges of the interval of a moment that is left out
    WIDEST = 0.1  # share of the log over which a moment is looked for at most
    MOMENTS = 48  # moments that are tried at first
    MOST_STEPS = 8  # changes at most
    # in shares of the smallest change: if an approach alone fits this well, there is no change
    TRACE = 0.05
    SHARE_OF_APPROACH = 0.4  # smallest change, as a share of the remaining approach
    MARGIN = 13.0  # log likelihood, beyond chance, that a change must gain
    NEEDED_FREE = 25.0  # the same against a free course
    FREE_SIZE = 0.9  # share of the smallest size above which that counts
    WORTH_REFINING = 0.8  # share of the needed gain above which a moment is refined
    NOTED_S = 30.0  # s: largest error of a noted moment
    NEEDED_IF_TOLD = 14.0  # log likelihood that a noted change must gain
    WORTH_TRYING = 0.45  # share of that above which it is tried
    HARDLY_FADED = 0.7  # memory of the noise below which it cannot hide a change
    TRUST = 0.3  # factor on the log evidence about a moment, as the model is not exact
    TRUST_IF_POWER_KNOWN = 0.5  # the same where power was logged


class Timing:
    """When a change was."""

    AT_ONCE = ((0.0, 0.0), (8.0, 0.0), (30.0, 0.0))  # s: responses that are sudden
    USUAL_S = 150.0  # s: usual time constant of a change
    USUAL_SPREAD = 0.8  # spread of its logarithm
    QUICK_SHARES = (0.2, 0.35, 0.5)  # sudden shares of the response to a change of power
    QUICK_S = 8.0  # s: time constant of that share
    WITH_QUICK = -1.0  # log prior of such a response
    THEN_FROM_S = 60.0  # s: shortest time constant of the rest
    THEN_S = 7.0  # s: time constant of the lag before it
    FREE_FROM_S = 20.0  # s: shortest time constant of the free course
    FREE_RATIO = 2.5  # ratio of its time constants
    FREE_UP_TO = 0.6  # longest of them, as a share of the log
    # s: possible responses to the other changes of the run
    BESIDE = ((0.0, 0.0), (30.0, 0.0), (100.0, 5.0), (300.0, 5.0))
    NOTHING = 1e-9  # size below which a change does not show
    UNLIKE = 0.1  # share by which two responses must differ
    SAME = 1e-7  # share of the largest direction below which one is left out


class Steps:
    """Which changes are reported."""

    START_S = 60.0  # s at the start of a load in which no change is reported
    STARTS = 5.0  # times that: a shorter log is searched from its first second
    SMALLEST = 0.03  # share of the whole course that a change must be
    COARSE_STEPS = 1.2  # steps of the sensor that it must be
    BINS = 400  # bins of the course
    READ_SHARE = 0.2  # share of a bin that must be read
    ENDED_SHARE = 0.4  # share of the log after which a load counts as ended
