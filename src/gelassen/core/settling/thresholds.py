"""Thresholds and doubts of where a load settles.

Each group names its source and what it changes.
"""


class Enough:
    """Source: what a fit of minutes can tell at all. Below these, no answer is given."""

    FEWEST_READINGS = 10  # readings that an answer needs
    SHORTEST_S = 60.0  # s of load that an answer needs
    REST_S = 10.0  # s before the load from which on a log shows rest
    MISSING_SHARE = 0.05  # share of the log in which a reference may be missing without a caution
    AFTER_S = 5.0  # s logged after the load that are left out without a caution
    AFTER_SHARE = 0.01  # share of the load, likewise


class Looking:
    """Source: simulated runs whose soak ends when the answer is known.

    They decide when a soak may end.
    """

    # K below its limit within which a chip is held there: power tells, not temperature
    AT_LIMIT_K = 1.5
    LOOK_BACK_S = 120.0  # s over which it must have been
    STRETCH_S = 180.0  # s: power held at the limit is compared between two stretches of this length
    BLOCK_S = 30.0  # s: in means of this length
    # factor on the interval: stopping at the first narrow interval picks those that are too narrow
    FOR_LOOKING = 1.2


class Overshoot:
    """Source: late fans and governors on the simulated bench.

    They decide what passes for a peak.
    """

    BLOCK_S = 20.0  # s: means of this length show the peak
    BLOCKS = 60  # means a load, if that makes them longer
    LEAST_K = 0.7  # K that the temperature must fall
    CLEAR = 5.0  # scatters of the means that it must fall
    SHARE = 0.03  # share of the rise before the peak that it must fall
    LAST = 3  # last means that tell where it fell to
    NEAR_S = 45.0  # s around a change of conditions within which a fall is that change
    BOOST_S = 90.0  # s that a boost may last
    NEARLY = 0.9  # share of the steepest fall from which on the approach begins


class Recovery:
    """Source: cooling curves of the simulated bench.

    Below these, no time constants of cooling are given.
    """

    FEWEST_S = 90.0  # s of cooling that are needed
    FEWEST_READINGS = 20  # readings that are needed
    BINS = 50  # bins of averaged readings
    ROUGH = 0.01  # share to which the curve is trusted early on


class Rest:
    """Source: idle phases of the simulated bench. They decide when a machine counts as rested."""

    SHORTEST_S = 60.0  # s of readings that are needed
    LAST_S = 30.0  # s over which the present level is the mean
    COURSE_S = 240.0  # s over which the slope is taken
    BLOCK_S = 20.0  # s: in means of this length
    SLOWEST_MIN = 15.0  # min: time constant with which the slowest coolers come to rest
    LEVEL_K = 1.5  # K to the level of earlier rests within which the machine is back at it


class Settled:
    """Source: simulated bench and random machines.

    These widen the interval of the steady state.
    """

    # share of the extrapolated part that stays in doubt: three heat capacities are not the machine
    BEYOND_IN_DOUBT = 0.1
    BEYOND_FANLESS = 0.03  # the same without a fan: there is less that could change
    # added to that share for each unit of bend beyond free convection: fan curves have kinks
    KINKS_IN_DOUBT = 0.4
    FREE_CONVECTION = 0.25  # bend of free convection
    FALL_IN_DOUBT = 0.5  # share after a peak: what makes the temperature fall may stop it
    NARROWED = 0.95  # factor on all doubts together: each part was chosen to be safe
    SURE_REACHED = 0.65  # probability from which on "reached" is said
    OPEN_BEYOND = 1.5  # times what was seen: a wider interval is opened on the far side
    CURVE_POINTS = 60  # points of the drawn curve


class Parts:
    """Source: boosts, peaks and sensors of the simulated bench.

    They decide which part of a load is fitted.
    """

    # share of the effect of room and power that is in doubt where a fall is told from it
    CONDITIONS_IN_DOUBT = 0.5
    LONG_BOOST = 1 / 3  # share of the load from which on a boost is a load of its own
    FALLS_ON_K = 1.0  # K by which a fall is expected to go on, from which on it may be a swing
    HIDES_K = 0.1  # K hidden by steps of the sensor from which on there is a caution
    # spread of the logarithm by which other fans or another case move the slowest time constant
    OTHER_CONDITIONS = 0.3


class Swings:
    """Source: fans that switch on and off on the simulated bench.

    They decide what passes for a swing.
    """

    BLOCK_S = 10.0  # s: means of this length show the swings
    BLOCKS = 200  # means a load, if that makes them longer
    LEAST_K = 2.0  # K that a swing goes up and down
    SHARE = 0.05  # share of the rise before it, likewise
    ONCE_K = 3.0  # K for a temperature that turned back only once
    ONCE_SHARE = 0.1  # share of the rise, likewise
    ALIKE = 0.35  # share by which swings may differ
    FEWEST = 2  # whole swings that are needed
    GOES_ON = 1.5  # periods within which the last swing must lie before the end of the load
    RIDES = 0.2  # share of their height by which the means of swings may move
    BOOST_S = 90.0  # s at the start in which nothing passes for a swing
    LONGEST_S = 600.0  # s: longer periods may be the tester, who puts something on and takes it off
    DIFFER = 0.03  # share of their height by which whole swings usually differ
    USUAL_FREEDOM = 2  # degrees of freedom of that share
    POWER_SWINGS = 0.1  # share by which power swings if the temperature follows it
    ROOM_SWINGS = 0.3  # share of the height by which the room swings if the temperature follows it


class Course:
    """Source: convention. They define the words "within 1 K" and "first minute"."""

    BAND_K = 1.0  # K within which a temperature is back or there
    SMOOTH_S = 15.0  # s over which readings are averaged before they are looked at
