"""Priors and doubts of the capacity.

Each group names its source and what it changes.
"""


class Climb:
    """Climbs in power.

    Source: coolers of the simulated bench, with and without fan curves. They widen the interval of the
    capacity, and so decide how long a climb takes.
    """

    BIN_S = 10.0  # s of the bins
    APART = 2.0  # factor between two lags that can be told apart
    USUAL_REST_K = 2.0  # K that the rest of the machine warms the part
    REST_SPREAD_K = 2.5  # K: standard deviation of that
    ROUGH_SHARE = 0.02  # share of a change that quicker parts take up at first
    ROUGH_S = 40.0  # s for which they do
    # share of the rise in doubt for each unit of log power to other levels: fan curves have kinks
    FAR = 0.03
    ALIKE = 8.0  # neighbouring bins in which the model's error is alike
    IN_DOUBT = 0.007  # share of the rise that stays in doubt
    # share of the rise in doubt for each share of power beyond the highest that was held
    BEYOND = 0.2
    REST_W = 3.0  # W: least change of power that is a load
    DRAWS = 3000  # draws
    MOST_W = 3000.0  # W: no higher capacity is looked for
    OPEN = 0.9  # share of that: an upper end above it is open
    NOISE_K2S = 0.05  # K²s: least density of the noise
    LEAST_K = 0.02  # K: least error of the mean of a bin
    HELD_BINS = 6  # bins of the highest powers: a minute was held above the lowest of them
    FEWEST_DRAWS = 50  # draws with a solution that are needed
    BEYOND_SHARE = 1.05  # share of the highest power that is as good as measured
    FEWEST_BINS = 12  # bins that are needed
    FREEDOM = 12  # degrees of freedom of the noise


class Levels:
    """Levels of power. Source: simulated bench. They widen the interval of the capacity."""

    COURSE_POINTS = 40  # points of the drawn course
    SURE_FREEDOM = 100.0  # degrees of freedom of the standard errors of steady rises
    # probability beyond which scatter is believed over the errors that were told
    BEYOND_CHANCE = 0.95
    BOUND_K = 0.7  # K around the limit within which a run is at it
    CUT_TOO_FAR = 0.02  # probability that a governor cut more than it had to
    SOLVED = 0.9  # share of the courses that must meet the limit
    IN_PROPORTION = 0.97  # exponent above which a rise is called in proportion to power
    # K, and share of the rise, by which a run was held back earlier than the answer says
    EARLY_K, EARLY_SHARE = 5.0, 0.1
    # times the measured powers: a capacity above or below these is called far away
    FAR_ABOVE, FAR_BELOW = 1.25, 0.75
    LEAST_SPREAD_K = 0.1  # K: readings may agree by chance
    LEAST_ERROR_K = 0.05  # K: least standard error of a rise
    ONLY_HELD = 0.97  # share of a held power that is surely held, if every run was at its limit
    ONE_LEVEL = 0.03  # share of the power within which levels are one


class Beyond:
    """Powers above the highest that was run.

    Source: physics. Heat pipes dry out, fans come to the end of their curve, leakage grows with heat, and
    the logged power may be more than the chip's. All of these take capacity away. They widen the interval
    with the distance, and mostly downwards.
    """

    CHANCE = 0.5  # probability that something takes capacity away
    TAKES = 0.2  # share of the log distance that it takes (standard deviation)
    ADDS = 0.1  # share of the log distance by which the course may also fare better or worse
    FAR = 1.5  # times the highest power: a capacity above it has an open upper end


class Input:
    """Physics."""

    LEAST_W = 1e-3  # W: no machine that is tested for its cooling draws less


class Courses:
    """Courses of rise over power.

    Source: coolers and fan curves of the simulated bench. They decide how the rise is taken to go on
    between and beyond the levels.
    """

    STEADY = (1.0, 0.02)  # exponent with steady fans: mean and standard deviation
    FREE = (0.85, 0.06)  # exponent of free convection: mean and standard deviation
    FREE_SHARE = 0.5  # probability of free convection where nothing is known of fans
    OTHERWISE = 0.1  # probability of the less usual one where something is known
    OFFSET_SHARE = 0.02  # share of the allowed rise by which other sources warm the air
    FROM_C = (30.0, 38.0, 46.0, 54.0, 62.0)  # °C at which fans begin to speed up
    OVER_K = (15.0, 25.0, 35.0, 45.0)  # K over which they do
    LEAST = (0.25, 0.4, 0.55)  # their least speed, as a share
    FALLS = (0.5, 0.65, 0.8)  # exponent with which the resistance falls with speed
    ON_CURVE = 0.85  # probability that fans are on a curve, where their speeds are not known
    STEADY_SPEED = 0.04  # share of their mean within which speeds are steady
    ON_CURVE_IF_STEADY = 0.03  # probability of a curve then
    ON_CURVE_IF_NOT = 0.95  # probability of a curve otherwise
    NO_FANS = 1e-9  # probability that stands for zero
    # shares of the last slope with which speeds go on beyond the hottest level
    GO_ON = (0.0, 0.5, 1.0)
    SHARE = 0.5  # share of the resistance that fans act on
    SHARE_SPREAD = 0.2  # standard deviation of that
    DEPARTURE = 0.0015  # share of the allowed rise by which courses depart from all this
    DEPARTURE_LENGTH = 0.35  # log power over which departures are alike
    DRAWS = 6000  # draws
    GRID = 160  # points of the grid
