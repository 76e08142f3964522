"""Thresholds of what is worth saying of a run.

Source of all: what practitioners act on. They decide which cautions are given, and over which
samples means are taken.
"""


class Cautions:
    """Cautions of a run."""

    ROOM_DRIFT_K = 1.0  # K by which a room drifts before it is said
    FAN_DRIFT_SHARE = 0.05  # share by which a fan moves during the hold
    WORK_DRIFT_SHARE = 0.02  # share by which the work moves during the hold
    IDLE_LOAD_PCT = 10.0  # % of the processor that other programs use at rest
    SILENT_SHARE = 0.05  # share of missing readings
    OTHERS_MOVED_K = 8.0  # K by which others moved while a sensor stood still
    FEWEST_READINGS = 30  # readings for which it must have
    NEAR_LIMIT_K = 2.0  # K below its limit at which another part may hold the chip back
    BAND_K = 0.5  # K by which the hold may begin below the steady value
    UNREAD_S = 600.0  # s for which a room may go unread
    FIRST_S = 5.0  # s within which a log that begins under load begins
    MOSTLY_THERE = 0.5  # share of the rise that is there then


class Hold:
    """The measured window."""

    HOLD_S = 600.0  # s at the end of a load that are measured where a log has no phases


class Levels:
    """Levels of power within one run. Source: simulated bench."""

    APART = 0.05  # share of the power by which levels differ
    SETTLING_S = 60.0  # s at the start of a level that are left out of its mean
    # share of its last third held back by heat from which on a level was not reached
    HELD_SHARE = 0.1
    RIDES_K = 0.75  # K below the limit within which a level is at it
    LATE = 0.2  # share of the level at its end over which fans and room are read
    WARMER_K = 2.0  # K by which levels must differ to tell how fans follow
    MOST_MORE = 0.1  # share by which fans are brought on at most


class Reference:
    """References that are read rarely."""

    # share of the samples below which a reference is bridged before the load is cut into stretches
    MOSTLY_READ = 0.5


class Load:
    """What counts as the same load."""

    OTHER_LOAD_PCT = 10.0  # percent points of busy time beyond which it is another load


class Swinging:
    """What counts as a load that swings itself."""

    LOAD_SWINGS = 0.25  # share by which its busy time moves
