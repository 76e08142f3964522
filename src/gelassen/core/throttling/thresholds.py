"""Constants of what held a chip back, in one table for each step.

Shares of clock and power are natural logarithms: 0.01 is 1 %. All come from what is known of chips and
governors in general, and were adjusted on the chips of `benchmarks/governed_chip.py`.
"""


class ChipLog:
    """Source: loggers that miss readings."""

    LOAD_UNREAD_S = 60.0  # s: a load continues over a gap this long in its readings


class Reading:
    """What the model reads from a log."""

    # s of the running median of temperature and power: single readings do not decide
    SMOOTH_S = 5.0
    BEST_S = 9.0  # s of the running median of the clock, for the first guess of its best
    COLD_S = 20.0  # s at load start in which a cold chip runs faster
    REACH_S = 5.0  # s between reaching the limit and the answer of a governor
    NEAR_K = 2.5  # K around the limit within which governors keep the hottest reading
    STEPS = 2.0  # steps of the sensor within which a reading is at the limit
    COARSEST_K = 2.0  # K: larger steps count as this
    WARMS_K = 1.0  # K by which a chip warms if it is not held by heat, or a step of its sensor
    WARMS_S = 30.0  # s before and after over which it does
    FALLS_K_PER_S = 1.0  # K for each second between readings by which a cut chip cools unseen
    FALLS_K = 10.0  # K by which it does at most
    FLOOR = 0.004  # standard deviation of clock and power about a course, beyond noise: no course is exact
    COARSEST = 0.04  # share of a clock: larger distances of its readings are no steps of a sensor
    # percentile of the distances of readings that shows noise, even among many cuts
    QUIET_PCT = 20.0
    QUIET_SIGMAS = 0.2533  # the same percentile of normal noise, in standard deviations (tables)
    FEWEST_QUIET = 8  # readings that show noise
    FEWEST_WARM = 10  # readings after the cold seconds that a course is read from alone
    STEEPNESS = 2.5  # exponent of power over clock (voltage falls with the clock)


class Model:
    """What each state predicts."""

    LOSS = 0.15  # usual share of the clock that is lost where a chip is held back
    LEAST_BY_HEAT = 0.005  # share of the clock that a governor takes at least
    LEAST_BY_OTHER = 0.035  # the same for other causes: smaller losses are ordinary
    AROUND_S = 7.0  # s of the running median that shows how a course goes on
    AROUND = 7  # readings that it needs at least
    SELF = 0.04  # log likelihood that a reading gains from being among the seven (white noise, simulated)
    STEP = 0.4  # share of that likelihood for a course that goes on from the reading before
    JUMP = 0.1  # probability density of a sudden change, against a course that goes on
    OUTLIER = 0.02  # share of readings that are wrong, or of an odd moment
    IMPOSSIBLE = 1e-9  # likelihood of a state that cannot be
    CONTRARY = 1e-6  # likelihood of a state that the chip's own word contradicts
    RANGE = 0.7  # range in which such readings lie
    POWER_MISFIT = 3.0  # log likelihood that the power of one sample may cost: loads vary
    STEEPNESS_SD = 0.5  # standard deviation of the exponent of power over clock
    COLD_SHARE = 0.02  # usual share by which a cold chip runs faster
    COLD = 0.5  # probability that it does
    BAND = 0.02  # share of a power limit within which a chip is held by it
    STATED_BAND = (-0.015, 0.035)  # shares about a stated limit between which power is held by it
    OVER = 0.03  # share of a power limit by which power may pass it
    SELDOM = 0.02  # likelihood, against others, that a free chip draws just its limit
    NEVER = 0.01  # likelihood, against others, that power is above its limit
    BACK_K = 20.0  # K below the limit at which every clock was given back
    WARMS = 0.8  # likelihood of heat, for each sample, while a chip warms on the way to its limit
    ON_COURSE = 3.0  # times the density of wrong readings, from which a reading is on its course
    LIMIT_SIGMAS = (
        2.0,
        3.0,
    )  # standard deviations of the power: within a limit's band, and above it
    # smallest likelihood against the likeliest state, so that no state is lost for good
    RATIO = 1e-12
    FITS_SIGMAS = 4.0  # standard deviations within which power belongs to its course
    FEWEST = 3  # samples that a course needs


class Moves:
    """How states follow each other. Rates are for each second."""

    TO_LIMIT = 1 / 300  # to be taken by a power limit
    END_BOOST = 1 / 100  # to end a boost
    TO_HEAT = (1 / 30, 1 / 5)  # to be taken by heat, at the temperature limit: between these
    AT_LIMIT = 0.1  # share of the two at the temperature limit: heat is likelier there
    LEAVE_LIMIT = 1 / 3000  # to leave a power limit
    BACK = (1 / 100, 1 / 20)  # to be free again after heat: between these
    END_OTHER = 1 / 100  # to be free again after something else
    RESTS = 1 / 20  # to forget the state, at rest
    TO_OTHER = 1e-11  # to be taken by something else: rare, and its course is free to be anything
    ANY = 1e-7  # for all other changes
    # probability of each state at load start, if there is a limit
    FIRST = (0.4, 0.55, 1e-6, 0.05, 1e-9)
    FIRST_FREE = (1e-12, 1.0, 1e-6, 1e-12, 1e-9)  # the same if there is none
    PINNED_UNSEEN = 1e-3  # probability of a limit from the first second, if no clock shows it


class Course:
    """Clock and power of a chip as straight lines over temperature: prior knowledge."""

    CLOCK_PER_K = (-3e-3, 0.0)  # between these: boost loss, or leakage under a power limit
    POWER_PER_K = (-0.02, 0.02)  # between these: leakage and boost loss together
    CLOCK_SD = 1e-3  # standard deviation of the first
    POWER_SD = 3e-3  # standard deviation of the second
    LEVEL = 0.7  # range of the level of a clock or a power before the log is seen
    # range of the clock at a power limit, from the free clock and its steepness
    LEVEL_AT_LIMIT = 0.05
    CLOCK_WIDTH = 2e-3  # range of the slope of the clock
    POWER_WIDTH = 5.6e-3  # range of the slope of the power: leakage 0 to 0.6 %/K less boost loss
    # log likelihood that a clock costs which keeps its level at a power limit: chips leak
    GIVES_WAY = 5.0
    FIXED = 2.0  # standard errors within which a slope is none: half of all chips keep their clock


class Search:
    """How the courses and an unstated power limit are found."""

    ROUNDS = 6  # rounds of expectation and maximisation
    SETTLED = 0.01  # change of all probabilities at which they end
    SAMPLES = 1000  # about so many samples are used for it
    MOST = 100_000  # samples at which states are found: of longer logs, every so many
    FEWEST = 20  # samples that show a level of power
    ALIKE = 0.01  # share of a power within which samples are on one level
    APART = 0.03  # share by which two levels differ
    LEVELS = 3  # levels of power that are tried as a limit
    STRAIGHT = 0.01  # share within which samples are on the course of a first guess
    STRAIGHTENED = 4  # times that such a course is fitted
    HIGHEST = 6  # place of the sample, from the highest, that is the best clock of a first guess
    NEAR_BEST = 0.035  # share of the clock within which a first guess takes samples as free
    FULL = 0.75  # share of these that a narrow range of power must hold
    WEIGHT = 1e-3  # weight of a guess below which it is left out


class LowerLimit:
    """A temperature limit below the stated one."""

    LEAST_K = 2.0  # K below the stated limit: smallest distance of another limit
    MOST_K = 15.0  # K below it: largest distance
    HOT_PCT = 95.0  # percentile of the temperature that shows it
    STILL_K = 0.75  # K within which the temperature is constant
    STILL_S = 60.0  # s for which it must be
    AT_K = 0.5  # K below a limit at which a governor keeps the chip
    PRIOR = 30.0  # log likelihood by which it must be better: as rare as something else that holds a chip


class LoadLevels:
    """When the work that is asked of a chip changed. Source: staircases of busy cores, made up."""

    SMOOTH_S = 15.0  # s of the running median
    FAR_S = 20.0  # s before and after a sample that are compared
    POWER = 0.05  # relative change of the power
    CLOCK = 0.007  # relative change of the clock, against that of the power: a step of 25 MHz
    SAME_POWER = 0.01  # relative change of a power that stays at its limit
    CLOCK_ALONE = 0.02  # relative change of the clock, then
    LOAD_PCT = 4.0  # points of the busy time: one of 24 cores
    EDGE_S = 60.0  # s at both ends of the load in which no level ends
    SHORTEST_S = 120.0  # s: if a level is shorter, the load comes and goes
    MOST = 24  # levels of one load


class OtherParts:
    """Which other part held a chip back."""

    FEWEST = 20  # samples at which the chip was held back that are needed
    NEAR_K = 3.0  # K below its limit within which a part is held there: regulators swing
    MOSTLY = 0.8  # share of these samples at which it must be there
    STILL_K = 1.5  # K within which a part without a stated limit must stay
    WARMS_K = 2.0  # K by which such a part must have warmed before
    WARMS_S = 300.0  # s before, within which it must
    AROUND_S = 30.0  # s before and after the moment that are compared
    TAKES = 0.5  # share of the chip's lost power that another chip must take
    TAKES_W = 3.0  # W that it must take at least: less is the noise of a load


class Cost:
    """The cost of throttling."""

    FEWEST_FREE = 5  # free samples that are needed
    COLD_S = 20.0  # s at the start that are left out: every chip runs faster then
    # % more power while held back that shows another load: more than the noise of such means
    MORE_PCT = 2.0


class Throttling:
    """When a chip is at its temperature limit, and what boost loss is."""

    SURE = 0.5  # probability from which a state counts as seen
    UNSURE = 0.9  # probability of the likeliest cause below which it is uncertain
    UNSURE_SHARE = 0.05  # share of the load from which that is said
    CUTS_SHARE = 0.1  # share of the last third for which heat must hold the chip
    SITS_K = 0.75  # K below the limit within which the smoothed temperature is at the limit
    SITS_DOUBT_K = 0.1  # K: standard deviation of that temperature over minutes
    SMOOTH_S = 15.0  # s of the running median of the temperature
    BEYOND_K = 5.0  # K above the limit: a governor never leaves a chip this hot
    LATE = 1 / 3  # share of the load that is its end
    RISING_S = 2.0  # s at load start in which power still rises
    FEWEST_BOOSTED = 2  # readings of a boost that are needed
    LOST = 0.035  # relative fall of the power that shows the end of a boost
    FEWEST = 20  # samples that a boost loss needs
    SAG_PCT = (5.0, 95.0)  # percentiles of the temperature over which it is measured
    SAG_K = 3.0  # K that these must differ
    BOOST_ENDS_S = 150.0  # s of load within which a boost ends
