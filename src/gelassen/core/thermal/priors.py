"""What is known of cooled machines before any reading is seen: the priors and doubts of the thermal model.

Each group names its source and what it changes. Shares are of 1, times in s, temperatures in K.
"""


class Slowest:
    """Prior of the slowest time constant, for the steady state and for a climb alike.

    Source: coolers of the simulated bench and of random machines, boards and cases included. It decides
    where an unfinished curve is taken to settle, and how wide that interval is.
    """

    # s and spread of the logarithm: a cooled part in general, median and spread
    USUAL = (360.0, 1.1)
    FANLESS = (800.0, 0.7)  # the same for a heatsink without a fan
    FANLESS_OTHERWISE = 0.1  # probability that a machine without a fan follows the general prior


class Bends:
    """Prior of the bend: how much more than in proportion the heat loss grows with the rise.

    Source: Incropera and DeWitt, ch. 9 (free convection 1/4 to 1/3); fans on curves act like bends up
    to 1 on the simulated bench. It decides how steep the last part of a curve is taken to be.
    """

    # bend and its probability, with a fan
    USUAL = ((0.0, 0.45), (0.25, 0.3), (0.6, 0.15), (1.0, 0.1))
    FANLESS = (0.05, 0.92, 0.02, 0.01)  # probabilities of the same bends without a fan
    SCALE = 0.45  # standard deviation of the bend in a climb, where it is not limited to this list


class Fanless:
    """Thermal resistances that tell a machine without a fan from one with a fan.

    Source: coolers of the simulated bench. It chooses between the priors with and without a fan.
    """

    BORDER_K_PER_W = 0.85  # K/W: above it, most coolers have no fan
    SPREAD = 0.12  # spread of the logarithm within which both kinds are found


class RoomEffect:
    """Prior of what each kelvin of the room does to a steady rise, wherever rooms differ.

    Source: simulated bench. Fans on curves -0.3 to -0.15, no fans -0.1, fixed fans about 0; leakage
    adds 0.1 to 0.2 where no power limit holds it. It moves rises that were measured in rooms of
    different temperature.
    """

    USUAL = (-0.05, 0.13)  # K/K: mean and standard deviation
    FANS_ALIKE = -0.02  # K/K: mean where fan speeds are logged: fans that sped up are told as such
    ALIKE_K = 0.5  # K: rooms nearer to each other than this count as one
    NO_ROOM_K = 80.0  # K: rooms farther apart than this are taken for a wrong sensor
    # weight of the prior's equation against the scatter of runs: large, so that scatter adds nothing
    LARGE = 30.0


class Boost:
    """The start of a load, which no exponential describes.

    Source: processors of the simulated bench. It sets how much of the start is left out of the fit.
    """

    USUAL_S = 60.0  # s: a boost of the clock lasts about this long
    MOST_OF_LOAD = 0.7  # share of the load that is left out at most


class Doubt:
    """What stays in doubt of the fit's conditions.

    Source: residuals on the simulated bench and random machines. These widen the interval of the steady
    state.
    """

    WANDER = 0.35  # share of the temperature change that is ascribed to wander of the power
    ROOM_HELD = 0.1  # share of a room change that the case holds back
    HELD_S = 1500.0  # s: time constant with which the case holds it back
    SURER_FANLESS = 0.6  # share of the doubt in the room's effect that goes away without a fan
    ROUGH = 0.01  # share: the curve early in the load is trusted to this, since heat capacities are lumps
    ALIKE = 0.2  # share of the load over which the rounding error of a reference is alike
    UNLOGGED_WANDER = 0.004  # share by which a power that was not logged wanders
    WANDER_S = 300.0  # s: for about this long
    UNLOGGED_ROOM_K = 0.4  # K by which a room that was not logged drifts
    ROOM_S = 2400.0  # s: for about this long
    # least and most independent stretches from which the noise is taken to be known
    FREEDOM = (5.0, 60.0)
    USUAL_FREEDOM = 20.0  # the same where the caller does not tell


class Start:
    """What is taken of the time before the load or the log.

    Source: idle rises of the simulated bench.
    """

    USUAL_SHARE = 0.12  # share of the settled rise at rest, where no reference tells it
    UNSEEN_S = 300.0  # s: a log that begins under load is taken to begin this long after its load
    FIRST_S = 5.0  # s: a load that begins within this of the log is not seen to begin


class Power:
    """How power and temperature act on each other.

    Source: leakage and boost of simulated processors.
    """

    AT_ONCE_S = 10.0  # s: the chip itself follows a change of power this quickly
    USUAL_PER_K = 0.001  # share of the power that a chip draws more for each kelvin
    SPREAD_PER_K = 0.002  # standard deviation of that share


class Reference:
    """Whether the reference is room air, or coolant that the load warms.

    Source: liquid loops and cabinets of the simulated bench.
    """

    RISES_K = 1.5  # K: both are tried where the reference rises this far
    RISES_SHARE = 0.08  # share of the part's own rise: and by this share of it
    WARMED_SHARE = 0.35  # share of the part's rise above which the reference is most likely coolant
    WARMED = 0.95  # probability of coolant above that share
    NOT_WARMED = 0.03  # probability of coolant below it
    ONE_WAY = 0.8  # share of its range by which coolant ends above its start; rooms go to and fro


class Fit:
    """How the fit searches.

    These change speed and numerical limits, and no answer by more than its last digit.
    """

    RATIO = 1.16  # ratio of neighbouring time constants in the list
    SHORTEST_S = 3.0  # s: shortest time constant in the list
    LONGEST_S = 7200.0  # s: longest
    QUICK_EVERY = 2  # every n-th entry of the list is tried for quick parts
    # entries of the list between two time constants: nearer ones (factor 2) look like one
    APART = 5
    MISSING = 2.0  # prior of what is still missing when the fit begins, in units of what was seen
    NO_WEIGHT = 1e-4  # models with less than this share of the best model's weight are dropped
    FEW = 4.0  # expected log weight below which a model is not solved for its signs
    HOPELESS = 10.0  # log weight below the best at which quick parts are not tried again
    MOST_BENT = 2  # parts beside a bent one: more add nothing and take half of the time
    BINS = 60  # bins of averaged readings in one load
    NO_PART = 0.01  # weight below which a supposition is left out of the drawn curve
    LOST_DIGITS = 1e-9  # pivot, against its diagonal, that has lost too many digits
    SHAPE_END = 12.0  # time constants after which a bent shape is an exponential to eight digits
    MEAN_DRAWS = 100  # draws that suffice for a mean curve
    BAND_DRAWS = 200  # draws that suffice for its interval
    KNOTS = 50  # points of a drawn curve


class WrongSign:
    """Amplitudes of the wrong sign: boosts that outlast the first seconds, warm starts, late fans.

    Source: simulated bench. They decide how readily a fall is believed to be part of the approach.
    """

    FAST = 0.2  # weight of a model with a quick amplitude of the wrong sign, against one without
    SLOW = 0.005  # the same for slow amplitudes
    SLOW_S = 150.0  # s: time constant from which an amplitude counts as slow
    SIZE = 0.1  # share of the rise: standard deviation of such an amplitude
    NEVER = 1e-60  # weight that stands for zero
