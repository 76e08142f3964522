"""Thresholds of what held a chip back.

All come from governors of the simulated bench and of the benchmark's chips, unless a group says
otherwise. They decide which samples count as held back, and by what.
"""


class BestClock:
    """The best clock a run held for a while: what is lost is lost from it."""

    SAG_SHARE = 0.035  # share of the clock that ordinary boost loses as it warms
    QUIET_SHARE = 0.0025  # scatter of the clock up to which it is looked at over a glance
    GLANCE_S = 3.0  # s of a glance
    LOOK_S = 11.0  # s of a longer look
    COLD_S = 20.0  # s at the start in which every chip runs faster
    BEST_HELD_S = 6.0  # s for which the best clock must be held
    BOOST_POWER_SHARE = 0.12  # share of the power that the end of a boost takes with it
    LEVEL_SHARE = 0.02  # share to which power keeps the level that follows
    RISING_S = 2.0  # s in which a load still comes up
    FALL_S = 3.0  # s within which a boost ends
    LEVEL_S = 60.0  # s over which the level is looked at
    SELDOM_S = 4.0  # s between readings from which on one of them may be all of a boost


class BoostLoss:
    """Clock that falls gradually with temperature is boost loss, not throttling."""

    BEFORE_S = (60.0, 10.0)  # s before a loss over which power and clock are read: from, to
    AFTER_S = (5.0, 45.0)  # s after it
    SMOOTH_S = 9.0  # s of the running median
    POWER_SHARE = 0.05  # share of the power that warmth may take
    POWER_PER_K = 0.008  # the same for each kelvin
    CLOCK_SHARE = 0.02  # share of the clock that warmth may take
    CLOCK_PER_K = 0.003  # the same for each kelvin
    # shares of the best clock between which a gradual loss is seen on its way
    ON_THE_WAY = (0.98, 0.9925)
    FEWEST = 3  # readings on the way that are needed
    LEVEL_SHARE = 0.004  # share to which power keeps its level on a power limit
    STEPS = 1.5  # steps of a coarse clock between two readings that may be one loss
    FINE = 0.0125  # share of the clock below which its steps are fine


class ChipLog:
    """Source: loggers that miss readings."""

    LOAD_UNREAD_S = 60.0  # s for which a load that was not read is taken to go on


class ClockCuts:
    """A governor that cuts the clock at the limit and gives it back."""

    AT_CUT_S = 5.0  # s between reaching the limit and a cut
    GIVEN_BACK_WITHIN_K = 20.0  # K below the limit at which the clock is given back
    CUTS_AGAIN_WITHIN_K = 10.0  # K below the limit at which it is cut again
    AGAIN = 3  # cuts in a row that are no glitch
    STAYS_WITHIN_K = 4.5  # K below the limit in which a governor with steps keeps the chip
    AT_ONCE_SHARE = 0.06  # share of the clock that one step takes at most
    STEPS_SHARE_PER_S = 0.025  # the same for each second between readings
    SUDDEN_SHARE = 0.03  # share of the clock that a cut takes at once


class Course:
    """The straight course of the clock over temperature, below the limit."""

    READ_OVER_K = 20.0  # K below the limit over which it is read
    LEAST_K = 6.0  # K that it must cover
    COLD_S = 20.0  # s at the start that are left out
    FEWEST = 20  # readings that are needed
    STRAIGHT = 0.01  # share within which it is a straight line
    FOLLOWS = 0.006  # share below it at which a clock still follows it
    LEAVES = 0.01  # share below it at which a clock has left it
    SMOOTH_S = 9.0  # s of the running median


class LowerLimit:
    """A temperature limit below the one that was told."""

    LEAST_K = 2.0  # K below the told limit from which on another one is believed
    MOST_K = 15.0  # K below it at most
    STILL_K = 0.75  # K within which the temperature stands still
    STILL_STEPS = 0.75  # steps of the sensor, likewise
    STILL_S = 60.0  # s for which it must
    PAUSE_S = 15.0  # s that it may interrupt
    SMOOTH_S = 15.0  # s of the running median
    POWER_TAKEN = 0.05  # share of the power that is taken meanwhile
    CLOCK_TAKEN = 0.015  # share of the clock that is taken meanwhile
    AT_ONCE = 0.5  # share of that which may go at once


class PowerLimit:
    """A power limit, told or shown by the readings."""

    PINNED_SHARE = 0.025  # scatter of a plateau of power, as a share
    LIMIT_SHARES = (0.985, 1.04)  # shares of a told limit between which power is held by it
    SWINGS_SHARES = (0.965, 1.05)  # the same where a governor swings about it
    GIVES_WAY_PER_K = 3.5e-4  # share of the clock a kelvin that gives way on a limit
    # share of the power a kelvin to which a limit keeps its level (standard deviation)
    KEEPS_PER_K = 2.5e-5
    WARMING_K = 10.0  # K of warming that are needed to see either
    FREE_PER_K = 2.8e-3  # share of the power a kelvin within which a free chip may go by chance
    LIKELIER = 10.0  # times likelier than chance that a level must be
    LIKELIER_SLOW = 3.0  # the same where readings are rare
    STRETCH_K = 5.0  # K of each stretch over which a level is looked at
    SUDDEN_SHARE = 0.05  # share of the power that a board takes away when it switches


class Held:
    """A temperature that stands at its limit while clock and power give way."""

    RIDES_K = 1.2  # K around the limit within which it rides on it
    RIDES_S = 30.0  # s for which it must
    PAUSE_S = 15.0  # s that it may interrupt
    ARRIVAL_S = 20.0  # s before the limit over which its power and clock are read
    FEWEST = 4  # readings that are needed
    POWER_LOST = 0.02  # share of the power that is lost there
    CLOCK_LOST = 0.005  # share of the clock
    COARSE = 0.01  # share of the clock above which its steps hide a loss


class Cause:
    """Which cause is concluded where little was logged."""

    POWER_SHARE = 0.04  # share below its best at which power is held back, without a clock
    USUAL_STEEPNESS = 2.5  # exponent of power over clock


class Cost:
    """What being held back cost."""

    FEWEST_FREE = 5  # free samples that are needed
    COLD_S = 20.0  # s at the start that are left out: every chip runs faster then


class Throttling:
    """When a chip is at its temperature limit."""

    NEAR_K = 2.5  # K around the limit within which a governor keeps the hottest reading
    # share of the last third held back by heat from which on a run is at its limit
    CUTS_SHARE = 0.1
    BEYOND_K = 5.0  # K above its limit at which no governor leaves a chip
    HELD_BELOW_K = 0.5  # K below a limit that shows at which the chip stays
    LOST = 0.035  # share of the best clock or power whose loss shows a governor at work
    HELD_S = 11.0  # s for which the best must be held
    BOOST_S = 60.0  # s at the start that are left out of it
