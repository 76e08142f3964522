"""What is known of cooled machines before any reading: the priors and doubts of the thermal model.

Each group names its source and what it changes. Shares are of 1, times in s, temperatures in K.
"""


class Slowest:
    """Prior of the slowest time constant, for the steady state and for a climb alike.

    Source: coolers of the simulated bench and of random machines, boards and cases included. It decides
    where an unfinished curve will settle, and how wide that interval is.
    """

    # s and spread of the logarithm: a cooled part in general, median and spread
    USUAL = (360.0, 1.1)
    FANLESS = (800.0, 0.7)  # the same for a heatsink without a fan
    FANLESS_OTHERWISE = 0.1  # probability that a machine without a fan follows the general prior


class Bends:
    """Prior of the bend: how much more than in proportion the heat loss grows with the rise.

    Source: Incropera and DeWitt, ch. 9 (free convection 1/4 to 1/3); fans on curves act like bends up
    to 1 on the simulated bench. It decides how steep the last part of a curve is.
    """

    MEAN = 0.45  # mean of the exponential prior of the bend, with a fan
    TRIED = (0.0, 0.25, 0.6, 1.0)  # bends that the fit of a load tries; a climb tries more
    FANLESS = (0.05, 0.92, 0.02, 0.01)  # probabilities of these bends without a fan


class Fanless:
    """Thermal resistances that separate machines without a fan from machines with a fan.

    Source: coolers of the simulated bench. It chooses between the priors with and without a fan.
    """

    BORDER_K_PER_W = 0.85  # K/W: above it, most coolers have no fan
    SPREAD = 0.12  # spread of the logarithm within which both kinds are found


class RoomEffect:
    """Prior of what each kelvin of the room does to a steady rise, wherever rooms differ.

    Source: simulated bench. Fans on curves -0.3 to -0.15, no fans -0.1, fixed fans about 0; leakage
    adds 0.1 to 0.2 without a power limit. It corrects rises that were measured at different room
    temperatures.
    """

    USUAL = (-0.05, 0.13)  # K/K: mean and standard deviation
    FANS_ALIKE = -0.02  # K/K: mean where fan speeds are logged, so that faster fans are known
    ALIKE_K = 0.5  # K: rooms nearer to each other than this count as one
    NO_ROOM_K = 80.0  # K: if rooms differ by more than this, one sensor is wrong
    # weight of the prior's equation against the scatter of runs: large, so that scatter adds nothing
    LARGE = 30.0


class Boost:
    """The start of a load, which no exponential describes.

    Source: processors of the simulated bench. It sets how much of the start is left out of the fit.
    """

    USUAL_S = 60.0  # s: a boost of the clock lasts about this long
    USUAL_SHARE = 0.05  # share of the load, if that is less
    ABOVE = 1.05  # times the usual power: a boost lies above it
    MOST_OF_LOAD = 0.7  # share of the load that is left out at most


class Doubt:
    """Doubts about the conditions of the fit.

    Source: residuals on the simulated bench and random machines. These widen the interval of the steady
    state.
    """

    # share of the ups and downs of a temperature under a load that varies: fans and air are not linear
    FOLLOWED = 0.1
    WANDER = 0.35  # share of the temperature change that wander of the power may cause
    # share of the delay that a part slower than the heatsink would add to the room's effect: a log does not
    # tell whether the air passes it. Source: machines of another model in rooms that cycle. First halves of
    # their loads are covered in 81 % with 0, in 85 % with 0.5, in 89 % with 1.
    SLOW_IN_THE_WAY = 1.0
    ROOM_HELD = 0.1  # share of a room change that the case holds back
    HELD_S = 1500.0  # s: time constant with which the case holds it back
    SURER_FANLESS = 0.6  # share of the doubt in the room's effect that vanishes without a fan
    ROUGH = 0.01  # relative error of the model early in the load, since heat capacities are lumped
    ROUGH_FADES = 0.1  # share of the load with which that error fades
    ALIKE = 0.2  # share of the load over which the rounding error of a reference stays the same
    UNLOGGED_WANDER = 0.004  # relative wander of a power that was not logged
    # Where power was not logged: if the temperature goes up and down by more than this share of the rise,
    # the load varied.
    RESTLESS = 0.015
    # times these ups and downs by which the load may move the temperature: slow parts follow later
    RESTLESS_LOAD = 2.0
    # Where power was not logged: if what the curve leaves unexplained moves by more than this share of the
    # rise, the load came in scenes.
    SCENES = 0.05
    SCENE_S = 90.0  # s that such a scene lasts: those of games last a minute or two
    WANDER_S = 300.0  # s: duration of that wander
    UNLOGGED_ROOM_K = 0.4  # K: drift of a room that was not logged
    ROOM_S = 2400.0  # s: duration of that drift
    # smallest and largest number of independent stretches that give the noise
    FREEDOM = (5.0, 60.0)
    USUAL_FREEDOM = 20.0  # the same if the caller does not give it


class Start:
    """Assumptions about the time before the load or the log.

    Source: idle rises of the simulated bench.
    """

    USUAL_SHARE = 0.12  # share of the settled rise at rest, if there is no reference
    SHARES = (0.02, 0.9)  # smallest and largest share that a reference may show
    UNSEEN_S = 300.0  # s: a log that begins under load begins about this long after load start
    FIRST_S = 5.0  # s: the start of a load this early in the log is not visible


class Power:
    """How power and temperature act on each other.

    Source: leakage and boost of simulated processors.
    """

    AT_ONCE_S = 10.0  # s: time in which the chip itself follows a change of power
    USUAL_PER_K = 0.001  # share of the power that a chip draws more for each kelvin
    SPREAD_PER_K = 0.002  # standard deviation of that share
    # share of the power by which a load must differ from idle to tell the effect of one watt
    LEAST_CHANGE = 1 / 6
    FEWEST_TURNS = 4  # whole turns of ups and downs over which the mean of a load is taken
    TURNS_ALIKE = 0.1  # share by which these turns may differ


class Reference:
    """Whether the reference is room air, or coolant that the load warms.

    Source: liquid loops and cabinets of the simulated bench.
    """

    RISES_K = 1.5  # K: room air and coolant are both tried if the reference rises this far
    RISES_SHARE = 0.08  # and by this share of the part's own rise
    WARMED_SHARE = 0.35  # share of the part's rise above which the reference is most likely coolant
    WARMED = 0.95  # probability of coolant above that share
    NOT_WARMED = 0.03  # probability of coolant below it
    ONE_WAY = 0.8  # share of its range by which coolant ends above its start; rooms move both ways


class Fit:
    """How the fit searches.

    These change speed and numerical limits, and no answer by more than its last digit.
    """

    RATIO = 1.16  # ratio of neighbouring time constants in the list
    SHORTEST_S = 3.0  # s: shortest time constant in the list
    LONGEST_S = 7200.0  # s: longest
    QUICK_EVERY = 2  # every n-th entry of the list is tried for quick parts
    # entries of the list between two time constants: closer ones (factor 2) cannot be separated
    APART = 5
    # prior of the rise still missing when the fit begins, in units of the observed rise
    MISSING = 2.0
    # entries of the list by which a time constant may lie off its entry: uniform, so 1/√12
    SHIFT = 0.3
    NO_WEIGHT = 1e-4  # models with less than this share of the best model's weight are dropped
    FEW = 4.0  # expected log weight below which a model is not solved for its signs
    HOPELESS = 10.0  # log weight below the best at which quick parts are not tried again
    MOST_BENT = 2  # parts beside a bent one: more of them change nothing and take half of the time
    BINS = 60  # bins of averaged readings in one load
    BIN_GROWS = 0.08  # share of the time since load start that a bin is long, where it is shorter
    NO_PART = 0.01  # weight below which an assumption is left out of the drawn curve
    LOST_DIGITS = 1e-9  # pivot, against its diagonal, that has lost too many digits
    SHAPE_END = 12.0  # time constants after which a bent shape is an exponential to eight digits
    DRAWS = 4000  # draws of an answer
    MORE_DRAWS = 5  # times as many, where few of them count
    EFFECTIVE = 0.03  # share of the draws that must count, as an effective number
    HALVINGS = 20  # halvings in the search for the power that levels weights
    FEW_DRAWS = 250  # draws of a pass that only prepares the next
    MEAN_DRAWS = 100  # draws that suffice for a mean curve
    BAND_DRAWS = 200  # draws that suffice for its interval
    KNOTS = 50  # points of a drawn curve


class WrongSign:
    """Amplitudes of the wrong sign: boosts that outlast the first seconds, warm starts, late fans.

    Source: simulated bench. They decide how likely a fall is part of the approach.
    """

    FAST = 0.2  # weight of a model with a quick amplitude of the wrong sign, against one without
    SLOW = 0.005  # the same for slow amplitudes
    SLOW_S = 150.0  # s: time constant from which an amplitude counts as slow
    SIZE = 0.1  # share of the rise: standard deviation of such an amplitude
    LEAST = 0.002  # share of the rise below which an amplitude has no sign
    NEVER = 1e-60  # weight that stands for zero
