"""Thresholds for judging readings.

Source of all: sensors and loggers of the simulated bench and of captured machines. They decide
which readings are used, and how noisy they are.
"""


class Flags:
    """Spans of a state."""

    PAUSE_S = 10.0  # s: shorter pauses between two spans are noise
    SHORTEST_S = 4.0  # s: shorter spans are noise


class Gaps:
    """Loggers skip single samples all the time."""

    WIDE_TIMES = 30.0  # times the usual distance of samples that a gap is
    WIDE_S = 10.0  # s that it is at least


class Grid:
    """Numerical limit."""

    # points of a grid: a thousandth of the log is still resolved
    MOST_POINTS = 4000


class Impossible:
    """Physics: no sensor reads these."""

    COLDEST_C = -273.15  # °C
    HOTTEST_C = 2_000.0  # °C
    LARGEST = 1e15  # of any unit


class Noise:
    """The sensor's steps and the memory of the noise."""

    FEW_VALUES = 0.5  # share of the readings that distinct values of a coarse sensor are at most
    APART = 20.0  # times the largest gap within blurred values that the gap between them is
    FEWEST_VALUES = 3  # blurred values that show a step
    TIGHT = 0.1  # share of the step over which a blurred value is spread at most
    WHOLE = 0.1  # share of the step by which distances depart from whole steps at most
    CONSTANT = 0.02  # in the unit: a channel that moves by no more is constant
    USUAL_STEP = 0.5  # in the unit: step of a channel that is constant, as of usual sensors

    FEWEST_JUMPS = 4  # jumps needed to find the step of a coarse sensor minus a fine reference
    ALIKE = 0.5  # share by which they may differ
    STILL = 0.35  # share of the step by which the reference may move at the same time
    FEWEST_BLOCKS = 12  # blocks needed for a variance
    # further growth of a variance with longer blocks, as a share of its last growth
    GROWS_ON = 0.5


class Pauses:
    """Pauses of a load."""

    PAUSED = 0.25  # share of the usual load below which it pauses
    LONGEST_S = 300.0  # s: a longer pause makes two loads
    MOST = 3  # pauses: more are bursts


class Renewal:
    """Channels that are renewed, or read, more rarely than samples are logged."""

    RARE_S = 4.0  # s between renewals that are rare
    REPEATS = 3.0  # samples for each renewal
    FEWEST = 12  # changes needed to find the interval
    LARGER = 3  # changes larger than the sensor's step that are needed
    STEPS = 1.5  # in steps of the sensor: a change above it is larger
    FEWEST_HELD = 16  # changes that show a fixed number of held samples
    LONGEST_HELD = 60  # samples that a reading is held at most
    MOSTLY_HELD = 0.98  # share of the changes that must keep to it
    KINKS = 0.4  # share of moving samples that are kinks: above it, a logger did not interpolate
    USUAL = 2.5  # straight lines bridge gaps of this many usual intervals
    MISSED_S = 10.0  # s: or gaps this long
    PAUSE_S = 30.0  # s: longer gaps are not bridged


class Restless:
    """Ups and downs of a temperature."""

    BLOCK_S = 20.0  # s of the means in which they are seen
    FEWEST_BLOCKS = 12  # means that are needed
    STEEP_SHARE = 0.2  # share of the load at its start that is left out


class Smooth:
    """A spline through coarse readings of a reference."""

    STRETCHES = 5  # stretches of the spline
    HARDLY = 0.1  # share of the rounding below which it does not matter
    DEGREE = 2  # degree of the spline


class Unread:
    """Sensors that did not answer, or stood still."""

    COLD_C = -40.0  # °C: a sensor without an answer reads this or less
    HOT_C = 125.0  # °C: or more
    JUMP_K = 15.0  # K by which the readings around it differ
    MOST = 0.2  # share of a channel above which it means something else
    STUCK_S = 60.0  # s: a channel that usually changes is stuck if constant for this long
    STUCK_READINGS = 20  # readings, likewise
    WINDOW = 60  # readings of a window in which changes are counted
    CHANGES_MOSTLY = 0.5  # share of readings that change in such a channel
    CHANGES_ALWAYS = 0.4  # share that change in each window
    STUCK_TIMES = 3  # at most this many stuck spans


class Whitening:
    """The noise model: sensors, rounding, wander of power and air."""

    MEMORIES = (2.0, 5.0, 12.0, 32.0, 100.0)  # steps of memory of its slow part
    WHITE_SHARES = (0.0, 0.3, 0.7, 0.9, 0.98)  # shares of its white part
