"""Thresholds of what held a chip back.

All come from governors of the simulated bench and of the benchmark's chips, unless a group says
otherwise. They decide which samples count as held back, and by what.
"""


class BestClock:
    """The best clock that a run held for a while. Losses are counted from it."""

    SAG_SHARE = 0.035  # share of the clock that ordinary boost loses as it warms
    QUIET_SHARE = 0.0025  # relative scatter of the clock up to which a short window is enough
    GLANCE_S = 3.0  # s of the short window
    LOOK_S = 11.0  # s of the longer window
    COLD_S = 20.0  # s at the start in which every chip runs faster
    BEST_HELD_S = 6.0  # s for which the best clock must be held
    BOOST_POWER_SHARE = 0.12  # relative fall of the power at the end of a boost
    LEVEL_SHARE = 0.02  # relative scatter of the power after it
    RISING_S = 2.0  # s in which power still rises at load start
    FALL_S = 3.0  # s within which a boost ends
    LEVEL_S = 60.0  # s over which the level is checked
    COLD_SHARE = 0.1  # share of the load, if the cold seconds are more of it
    SURE_SIGMAS = 4.0  # standard deviations of the clock by which a single reading is low
    FEWEST_HELD = 5  # readings for which the best clock must be held
    # shares of a boost: a clock is as fast as the boost above a limit between these
    FAST = (0.955, 0.98)
    STEPS = 1.5  # steps of a coarse clock by which it may be slower
    FEWEST_LEVEL = 10  # readings of the level of power that are needed
    SELDOM_S = 4.0  # s: with readings further apart, one reading may be the whole boost


class BoostEnd:
    """A boost that ends while the chip is below its limit."""

    LATEST_S = 150.0  # s of load within which it ends
    LASTS_S = 300.0  # s that a load must last to tell
    FEWEST = 20  # readings after it that are needed
    FEWEST_BEFORE = 2  # readings of the boost that are needed
    SMOOTH_S = 3.0  # s of the running median
    SETTLES_S = 2.0  # s at load start in which power still rises
    DROP_SHARE = 0.04  # share of the power by which it steps down
    LEVEL_SHARE = 0.025  # share of the power within which the new level is kept
    MOSTLY = 0.8  # share of the readings that must keep it
    SUDDEN_S = 8.0  # s within which power is on the new level
    CLOCK_SHARE = 0.01  # share by which the clock falls with it
    BUSY_PCT = 5.0  # percentage points by which the busy time may differ under the same load


class BoostLoss:
    """Clock that falls gradually with temperature is boost loss, not throttling."""

    BEFORE_S = (60.0, 10.0)  # s before a loss over which power and clock are read: from, to
    AFTER_S = (5.0, 45.0)  # s after it
    SMOOTH_S = 9.0  # s of the running median
    POWER_SHARE = 0.05  # relative fall of the power that warming may cause
    POWER_PER_K = 0.008  # the same for each kelvin
    CLOCK_SHARE = 0.02  # relative fall of the clock that warming may cause
    CLOCK_PER_K = 0.003  # the same for each kelvin
    # shares of the best clock between which a gradual loss is under way
    ON_THE_WAY = (0.98, 0.9925)
    FEWEST = 3  # readings between them that are needed
    LEVEL_SHARE = 0.004  # relative scatter of the power at a power limit
    STEPS = 1.5  # steps of a coarse clock between two readings that may belong to one gradual loss
    FINE = 0.0125  # share of the clock below which its steps are fine


class Smooth:
    """Widths of running medians, in s."""

    GLANCE_S = 3.0  # s: single readings do not decide
    SHORT_S = 5.0  # s: nor do two of them
    USUAL_S = 9.0  # s: a governor that goes in steps is smoothed
    LONG_S = 15.0  # s: one that swings about its limit is smoothed
    GAPS = 1.5  # usual gaps between readings by which two channels may be read apart


class ChipLog:
    """Source: loggers that miss readings."""

    LOAD_UNREAD_S = 60.0  # s: a load continues over a gap this long in its readings


class ClockCuts:
    """A governor that cuts the clock at the limit and restores it."""

    AT_CUT_S = 5.0  # s between reaching the limit and a cut
    GIVEN_BACK_WITHIN_K = 20.0  # K below the limit at which the clock is restored
    CUTS_AGAIN_WITHIN_K = 10.0  # K below the limit at which it is cut again
    AGAIN = 3  # cuts in a row that are not a glitch
    STAYS_WITHIN_K = 4.5  # K below the limit within which a stepping governor keeps the chip
    AT_ONCE_SHARE = 0.06  # largest relative step of the clock
    STEPS_SHARE_PER_S = 0.025  # the same for each second between readings
    SUDDEN_SHARE = 0.03  # smallest relative step of a sudden cut


class Course:
    """The straight course of the clock over temperature, below the limit."""

    READ_OVER_K = 20.0  # K below the limit over which it is read
    LEAST_K = 6.0  # K that it must cover
    COLD_S = 20.0  # s at the start that are left out
    FEWEST = 20  # readings that are needed
    STRAIGHT = 0.01  # relative scatter within which it is a straight line
    FOLLOWS = 0.006  # relative distance up to which a clock follows it
    LEAVES = 0.01  # relative distance from which a clock has left it
    SMOOTH_S = 9.0  # s of the running median


class LowerLimit:
    """A temperature limit below the stated one."""

    LEAST_K = 2.0  # K below the stated limit: smallest distance of another limit
    MOST_K = 15.0  # K below it: largest distance
    STILL_K = 0.75  # K within which the temperature is constant
    STILL_STEPS = 0.75  # steps of the sensor, likewise
    STILL_S = 60.0  # s for which it must be constant
    PAUSE_S = 15.0  # s: longest interruption
    SMOOTH_S = 15.0  # s of the running median
    POWER_TAKEN = 0.05  # relative fall of the power in that time
    CLOCK_TAKEN = 0.015  # relative fall of the clock in that time
    AT_ONCE = 0.5  # share of that fall that may be sudden


class PowerLimit:
    """A power limit, stated or found from the readings."""

    PINNED_SHARE = 0.025  # relative scatter of a plateau of power
    LIMIT_SHARES = (0.985, 1.04)  # shares of a stated limit between which power is held by it
    SWINGS_SHARES = (0.965, 1.05)  # the same where a governor swings about it
    GIVES_WAY_PER_K = 3.5e-4  # relative fall of the clock for each kelvin at a limit
    # relative slope of the power for each kelvin at a limit (standard deviation)
    KEEPS_PER_K = 2.5e-5
    WARMING_K = 10.0  # K of warming that are needed to see either
    FREE_PER_K = 2.8e-3  # the same for a free chip: its slope lies within this range
    LIKELIER = 10.0  # likelihood ratio that a limit needs against chance
    LIKELIER_SLOW = 3.0  # the same where readings are rare
    STRETCH_K = 5.0  # K of warming in each stretch that is tested for a level
    SUDDEN_SHARE = 0.05  # smallest relative step of the power when a board switches
    FEWEST = 20  # readings that show a plateau
    FEWEST_WARMING = 60  # readings of a warming chip that are needed
    MOSTLY = 0.6  # share of the readings that lie on a plateau
    KEEPS = 0.8  # share of the readings that keep it while the chip warms
    NARROW = 0.4  # share of the width of a plateau, near the temperature limit
    WIDE = 3.0  # times the width of a plateau, away from it
    FLAT = 0.2  # share of that width within which each stretch of warming lies
    OUTER_PCT = (2.0, 98.0)  # percentiles between which warming is measured
    SIGMAS = (
        2.0,
        4.0,
        2.5,
    )  # standard deviations by chance: of a plateau, while warming, of a stretch
    SETTLES_S = 5.0  # s at the start of a load in which power still rises
    # s before and after a step over which power is compared: from, to
    STEP_S = (3.0, 15.0)


class Held:
    """A temperature that stays at its limit while clock and power fall."""

    RIDES_K = 1.2  # K around the limit within which it is at the limit
    RIDES_S = 30.0  # s for which it must stay there
    PAUSE_S = 15.0  # s: longest interruption
    ARRIVAL_S = 20.0  # s before the limit over which its power and clock are read
    FEWEST = 4  # readings that are needed
    POWER_LOST = 0.02  # relative fall of the power there
    CLOCK_LOST = 0.005  # relative fall of the clock there
    COARSE = 0.01  # relative step of the clock above which its steps hide a loss


class Cause:
    """The cause where little was logged."""

    POWER_SHARE = 0.04  # relative fall from its best at which power is held back, without a clock
    USUAL_STEEPNESS = 2.5  # exponent of power over clock


class Cost:
    """The cost of throttling."""

    FEWEST_FREE = 5  # free samples that are needed
    COLD_S = 20.0  # s at the start that are left out: every chip runs faster then


class Throttling:
    """When a chip is at its temperature limit."""

    NEAR_K = 2.5  # K around the limit within which a governor keeps the hottest reading
    # a run is at its limit if heat held it back for this share of the last third
    CUTS_SHARE = 0.1
    SITS_K = 0.75  # K below the limit within which the smoothed temperature is at the limit
    SMOOTH_S = 15.0  # s of the running median of the temperature
    SITS_SHARE = 0.5  # share of the last third at the limit above which a run is at its limit
    BEYOND_K = 5.0  # K above the limit: a governor never leaves a chip this hot
    HELD_BELOW_K = 0.5  # K below a limit within which the chip stays
    STEPS = 2.0  # steps of the sensor within which a reading is at the limit
    COARSEST_K = 2.0  # K: larger steps count as this
    FEWEST = 20  # samples that a boost loss needs
    SAG_PCT = (5.0, 95.0)  # percentiles of the temperature over which it is measured
    SAG_K = 3.0  # K that these must differ
    LATE = 1 / 3  # share of the load that is its end
    LOST = 0.035  # relative fall from the best clock or power that shows a governor at work
    HELD_S = 11.0  # s for which the best must be held
    BOOST_S = 60.0  # s at the start that are left out of it
