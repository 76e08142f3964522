"""Thresholds and doubts of where a load settles.

Each group names its source and what it changes.
"""


class Enough:
    """Source: what a fit of minutes can tell at all. Below these, no answer is given."""

    FEWEST_READINGS = 10  # readings that an answer needs
    SHORTEST_S = 60.0  # s of load that an answer needs
    REST_S = 10.0  # s of readings before the load that show rest
    MISSING_SHARE = 0.05  # share of the log in which a reference may be missing without a caution
    AFTER_S = 5.0  # s logged after the load that are left out without a caution
    AFTER_SHARE = 0.01  # share of the load, likewise


class Noted:
    """A reference that was read a few times by hand. Source: rooms that are lived in."""

    MOST = 3  # readings in a log up to which it was only noted
    ERROR_K = 0.7  # K: standard error of the room over the load, then


class Looking:
    """Source: simulated runs whose soak ends when the answer is known.

    They decide when a soak may end.
    """

    # K below its limit within which a chip is held there: power tells, not temperature
    AT_LIMIT_K = 1.5
    LOOK_BACK_S = 120.0  # s over which it must have been
    STRETCH_S = 180.0  # s: power held at the limit is compared between two stretches of this length
    BLOCK_S = 30.0  # s: in means of this length
    # factor on the interval: stopping at the first narrow interval favours those that are too narrow by
    # chance
    FOR_LOOKING = 1.2


class AtLimit:
    """When a part is held at its limit. Source: governors of the simulated bench."""

    SMOOTH_S = 15.0  # s of the running median
    NEAR_K = 0.75  # K below the limit within which it was reached
    HELD_K = 0.6  # K below it within which the end of the load is held there, if nothing else tells
    # K below the limit from which a held part is told to hover there, and not at its limit
    BELOW_K = 1.5
    LATE = 0.1  # share of the load that is its end
    BEYOND_K = 3.0  # K above the limit: a part that stays there has another limit


class Overshoot:
    """Source: late fans and governors on the simulated bench.

    They decide what counts as a peak.
    """

    BLOCK_S = 20.0  # s: means of this length show the peak
    BLOCKS = 60  # means a load, if that makes them longer
    LEAST_K = 0.7  # K that the temperature must fall
    CLEAR = 5.0  # scatters of the means that it must fall
    SHARE = 0.03  # share of the rise before the peak that it must fall
    LAST = 3  # the last means give the level after the fall
    NEAR_S = 45.0  # s around a change of conditions within which a fall is that change
    BOOST_S = 90.0  # s that a boost may last
    WIDTHS = 1.5  # or this many means around it
    NEARLY = 0.9  # the approach begins where the fall is slower than this share of the steepest


class Recovery:
    """Source: cooling curves of the simulated bench.

    Below these, no time constants of cooling are given.
    """

    FEWEST_S = 90.0  # s of cooling that are needed
    FEWEST_READINGS = 20  # readings that are needed
    BINS = 50  # bins of averaged readings


class Rest:
    """Source: idle phases of the simulated bench. They decide when a machine counts as rested."""

    SHORTEST_S = 60.0  # s of readings that are needed
    LAST_S = 30.0  # s over which the present level is the mean
    COURSE_S = 240.0  # s over which the slope is taken
    BLOCK_S = 20.0  # s: in means of this length
    SLOWEST_MIN = 15.0  # min: time constant with which the slowest coolers come to rest
    LEVEL_K = 1.5  # K: within this of earlier rests, the machine is at rest again


class Discrepancy:
    """The model is not the machine: a doubt that no number of readings makes smaller.

    Source: the floor from machines of distributed bodies and from settled runs in rooms that are lived
    in; the rest from physics, as each line says. It widens the interval of the steady state.
    """

    FLOOR_K = 0.06  # K: least standard error of a steady state, however long the log
    FLOOR_SHARE = 0.0015  # share of the rise, in addition: no machine is quite linear
    # share of the rise, for each unit of the relative variance of a load that varies: the mean of a bent
    # response is not the response to the mean (rise as power^0.8 and fans on curves: a tenth)
    OF_A_MEAN = 0.1
    # relative error of what is still to come: a real machine has more than three heat capacities
    BEYOND = 0.1
    BEYOND_FANLESS = 0.05  # the same without a fan, where less can change
    BEYOND_FALLING = 0.5  # the same after a peak, as the fall may stop
    FAN_CHANCE = 0.5  # probability that a fan speeds up in what is still to come
    # share of it that this takes away (standard deviation): a step of a usual curve takes 15 % off the
    # resistance
    FAN_TAKES = 0.4


class Settled:
    """Source: simulated bench and random machines.

    They decide what is said of the steady state.
    """

    SURE_REACHED = 0.65  # probability above which the steady state counts as reached
    OPEN_BEYOND = 1.5  # in units of the observed rise: a wider interval is open on the far side
    CURVE_POINTS = 60  # points of the drawn curve
    VARYING_POINTS = 600  # the same, where it follows a load that comes and goes
    CURVE_CONSTANTS = 4.0  # slowest time constants after which a curve has settled to 2 %
    CURVE_BEYOND = (0.1, 0.6)  # shares of the load by which the curve is drawn on: least and most


class Parts:
    """Source: boosts, peaks and sensors of the simulated bench.

    They decide which part of a load is fitted.
    """

    # relative error of the effect of room and power when it may explain a fall
    CONDITIONS_IN_DOUBT = 0.5
    LONG_BOOST = 1 / 3  # share of the load above which a boost is a separate load
    FALLS_ON_K = 1.0  # K: if a fall is expected to go further than this, it may be a swing
    HIDES_K = 0.1  # K hidden by steps of the sensor above which there is a caution
    # spread of the logarithm of the slowest time constant between fans or cases
    OTHER_CONDITIONS = 0.3


class Swings:
    """Source: fans that switch on and off on the simulated bench.

    They decide what counts as a swing.
    """

    BLOCK_S = 10.0  # s: means of this length show the swings
    BLOCKS = 200  # means a load, if that makes them longer
    LEAST_K = 2.0  # K that a swing goes up and down
    SHARE = 0.05  # share of the rise before it, likewise
    ONCE_K = 3.0  # K for a temperature that turned back only once
    ONCE_SHARE = 0.1  # share of the rise, likewise
    ALIKE = 0.35  # share by which swings may differ
    FEWEST = 2  # whole swings that are needed
    GOES_ON = 1.5  # the last swing must end within this many periods before the end of the load
    RIDES = 0.2  # relative drift of the means of swings, in shares of their height
    BOOST_S = 90.0  # s at the start in which no swing is counted
    LONGEST_S = 600.0  # s: longer periods may be changes by the tester
    DIFFER = 0.03  # share of their height by which whole swings usually differ
    USUAL_FREEDOM = 2  # degrees of freedom of that share
    POWER_SWINGS = 0.1  # share by which power swings if the temperature follows it
    ROOM_SWINGS = 0.3  # share of the height by which the room swings if the temperature follows it


class ReadByHand:
    """Readings without a log.

    Source: 36 runs of the sample scenario on the simulated bench, cut after 5 to 26 min. They decide how
    far a typed reading lies from the steady state, and its doubt.
    """

    USUAL_MINUTES = 20.0  # of load, if nobody said
    USUAL_REST_C = 27.0  # °C at rest, if nobody said
    SHORT = 0.3  # share of the rise that a load is short of, at its start
    MINUTES = 6.0  # in which that share falls to 37 %
    SHORT_DOUBT = 0.8  # standard deviation of that share, as a share of it
    LEAST_SHARE = 0.015  # standard deviation after the longest load, as a share of the rise
    LENGTH_UNKNOWN = 0.03  # more of it, if the length is not known
    SHORT_MOST = 0.6  # share beyond which nothing is worked out
    END_K = 0.6  # K: standard deviation of one reading in whole degrees with noise
    HIGHEST_OVER_K = 0.9  # K by which the highest of many readings lies above the steady state
    HIGHEST_K = 0.8  # K: standard deviation of that
    MEAN_MINUTES = 2.0  # minutes of full rise that a mean over the whole load lacks
    MEAN_MOST = 0.4  # share that it lacks at most
    SHARED = 0.7  # share of the error variance that readings of one setup share
    MEAN_DOUBT = 0.35  # standard deviation of that share, as a share of it


class Course:
    """Source: convention. They define the words "within 1 K" and "first minute"."""

    BAND_K = 1.0  # K
    SMOOTH_S = 15.0  # s over which readings are averaged first
    REST_S = 60.0  # s before a load that show rest
    MINUTE_S = (50.0, 70.0)  # s of load: readings in between give the end of the first minute
    SPIKE_S = 30.0  # s: a spike at the start is looked for within this time
    AFTER_SPIKE_S = 90.0  # s: and compared with the readings up to here
    # least spike: standard deviations of the noise, steps of the sensor, and K
    SPIKE = (4.0, 1.5, 0.5)
