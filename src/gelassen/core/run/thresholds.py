"""Thresholds of the cautions of a run.

Source of all: what practitioners act on. They decide which cautions are given, and over which
samples means are taken.
"""


class Cautions:
    """Cautions of a run."""

    ROOM_DRIFT_K = 1.0  # K: smallest drift of the room with a caution
    FAN_DRIFT_SHARE = 0.05  # smallest change of a fan during the hold with a caution, as a share
    # smallest change of the work during the hold with a caution, as a share
    WORK_DRIFT_SHARE = 0.02
    # % of the processor: smallest use by other programs at rest with a caution
    IDLE_LOAD_PCT = 10.0
    SILENT_SHARE = 0.05  # smallest share of missing readings with a caution
    OTHERS_MOVED_K = 8.0  # K: a sensor is stuck if it is constant while others move this far
    FEWEST_READINGS = 30  # for at least this many readings
    NEAR_LIMIT_K = 2.0  # K below its limit at which another part may hold the chip back
    BAND_K = 0.5  # K: the hold may begin this far below the steady value without a caution
    UNREAD_S = 600.0  # s: longest gap of the room readings without a caution
    FIRST_S = 5.0  # s within which a log that begins under load begins
    MOSTLY_THERE = 0.5  # and with this share of the rise already reached


class Hold:
    """The measured window."""

    HOLD_S = 600.0  # s at the end of a load that are measured where a log has no phases


class Quantities:
    """What a run says beside its steady state. Source: simulated bench, readings in whole degrees."""

    REST_S = 60.0  # s before the load that show the temperature at rest
    REST_DOUBT_K = 0.3  # K: a rest is rarely quite over, however many readings it has
    HIGHEST_DOUBT_K = 0.7  # K: by which the highest of many noisy readings is chance
    BLOCKS = 10  # of which the standard error of a mean is taken
    CHIP_S = 10.0  # s in which the chip itself is warm, and only the cooler still heats up
    WARM_UP_LEAST_S = 120.0  # s of load that show how long the cooler takes
    WARM_UP_LEAST_K = 2.0  # K by which it heats up meanwhile
    WARM_UP_DOUBT = 0.1  # share of that time: fans that speed up on the way
    PERCENTILE = 99.0  # of readings under load, for loads that come and go


class Levels:
    """Levels of power within one run. Source: simulated bench."""

    FAN_S = 10.0  # s after a step of duty in which a fan and its reading get there
    DUTY_LASTS_S = 120.0  # s: a duty that is held for less does not show where it settles
    DUTY_HELD_PCT = 2.0  # % by which a duty that is held still reads differently
    DUTY_APART_PCT = 4.0  # % between duties that are held on purpose
    APART = 0.05  # share of the power by which levels differ
    SETTLING_S = 60.0  # s at the start of a level that are left out of its mean
    # a level was not reached if heat held the chip back for this share of its last third
    HELD_SHARE = 0.1
    RIDES_K = 0.75  # K below the limit within which a level is at it
    LATE = 0.2  # fans and room are means over this share of the level, at its end
    WARMER_K = 2.0  # K by which levels must differ to show how fans follow temperature
    MOST_MORE = 0.1  # fans are extrapolated by at most this share of their speed


class Stretches:
    """Stretches of a load between changes."""

    BEFORE_S = 30.0  # s before a stretch that give the level from which its first minute counts


class Reference:
    """References that are read rarely."""

    # a reference read in fewer samples is interpolated before the load is split
    MOSTLY_READ = 0.5


class Load:
    """What counts as the same load."""

    OTHER_LOAD_PCT = 10.0  # percentage points of busy time: a larger difference is another load


class Passing:
    """Short cuts of a load, after which it goes on as before."""

    LONGEST_S = 300.0  # s that a cut lasts at most
    AROUND_S = 60.0  # s of the means before and after it
    EDGE_S = 5.0  # s next to its edges that are left out
    SHARE = 0.1  # share of the power by which a cut differs, and within which power is as before


class Swinging:
    """What counts as a load that swings by itself."""

    LOAD_SWINGS = 0.25  # relative swing of its busy time


class Warmth:
    """What warmth cost. Source: the way testers read a log, first minute against the end."""

    STARTS_S = 5.0  # s in which a load sets in
    FIRST_S = 60.0  # s of the load that count as its first minute
    SHORTEST_S = 300.0  # s of load below which the first minute is too large a part of it
    BESIDE_S = 120.0  # s before and after a change that are compared
    SETTLES_S = 60.0  # s after a change in which clock and power follow it
    TOLD_PCT = 0.5  # % of clock or work from which it is worth a sentence
