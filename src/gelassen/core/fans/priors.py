"""Priors and limits of cooling over fan speed. Each group names its source and what it changes."""


class Cooling:
    """Rise per watt over fan speed. Source: heat transfer of plates and fins in a stream of air."""

    EXPONENT = 0.7  # of conductance over speed: 0.5 laminar, 0.8 turbulent flow over plates
    EXPONENT_DOUBT = 0.15  # standard deviation
    EXPONENTS = (0.4, 0.5, 0.6, 0.7, 0.8, 0.9, 1.0)  # tried
    FREE = (
        0.0,
        0.03,
        0.1,
        0.25,
    )  # tried: what the fins give off at rest, over that at middle speed
    FREE_DOUBT = 0.1  # scale of that share
    SHARE_DOUBT = 0.5  # share of the rise that sits before the fins, and at the fins, either way
    OFFSET_K = 0.5  # K: rise of the case air by what else is in the case
    OFFSET_DOUBT_K = 1.0  # K
    BEND_DOUBT = 0.04  # change of the rise per watt when the power grows e-fold
    MISFIT = 0.006  # share of the rise by which no smooth law of this kind is right
    MISFIT_LENGTH = 0.7  # logarithm of speed, and of power, over which that misfit changes
    BETWEEN = (0.25, 0.5, 0.8, 1.25, 2.0)  # tried: spread between mountings, over what was thought
    BETWEEN_DOUBT = 0.7  # logarithm of that: rigs differ by about 2
    RUN_K = 0.2  # K: what a settled value is off beside its own error, in the same mounting
    # Share of the variance of a level's own error that all levels of one run have: what is not settled at
    # one duty is carried into the next. Between runs of a setup at half time it is 0.45.
    ONE_RUN = 0.6  # see above
    RUN_SHARE = 0.002  # and as a share of the rise: the load and the power reading


class Speed:
    """Fan speed over duty. Source: speed is nearly straight over duty between start and full duty."""

    NOISE = 0.005  # share of the speed: tachometers, and fans as they warm
    BETWEEN = 0.02  # share of the speed, half way between duties that lie a full range apart
    BEYOND = 0.004  # share of the speed for each % of duty outside the measured ones
    SAME_PCT = 0.5  # % of duty: runs closer than this were at one duty


class Noise:
    """Sound pressure over fan speed. Source: the fan law, sound power with the fifth power of speed."""

    DB_PER_DECADE = 50.0  # dB for ten times the speed
    DB_PER_DECADE_DOUBT = 12.0  # standard deviation
    METER_DBA = 0.7  # dB(A): repeat of a reading


class Loop:
    """The loop of temperature and fan. Source: rules of control, fans of 80 to 140 mm."""

    FAN_S = 1.5  # s: a fan follows its duty within about this
    STEP_S = 1.0  # s: duty is set once a second
    WARM_UPS = 30.0  # thermal time constants that are looked at: swings about a step can be slow
    MOST_S = 7200.0  # s: no longer than this is simulated
    LEAST_S = 900.0  # s
    HUNTS_PCT = 4.0  # % of duty, peak to peak once all is settled, from which a loop hunts
    HUNTS_K = 0.7  # K of rise, peak to peak, from which a loop hunts
    EDGE = 1.4  # a loop that changes its mind within this factor of gain or lag is near the edge
    EDGE_POWER = 1.02  # and within this factor of power
    RESTS_S = 120.0  # s without any change, beyond ten times the average: what rests stays at rest
    AT_REST_K = 1e-5  # K: far below any step of a duty
    LATE = 0.6  # share of the time after which a loop counts as settled, or never will
    AT_ONCE = 0.6  # share of the rise at twice the top speed that is there before the fins are warm
    BAND = 0.29  # of the hysteresis: standard deviation of where in it a loop rests, all alike
    USUAL_WARM_UP_S = 120.0  # s: where no run shows it; air coolers of 0.2 to 1 kg


class Choice:
    """Suggested curves. Source: convention; they decide the shape, the prediction decides the duty."""

    BELOW_FIRST_K = 15.0  # K: the duty begins to rise this far below the first point that matters
    LEAST_STEP_K = 4.0  # K between points: firmware takes whole degrees, and steep parts hunt
    HYSTERESES_K = (2.0, 3.0, 5.0)  # tried until the loop does not hunt
    AVERAGES_S = (3.0, 8.0, 20.0)  # and the average with each
    MOST_EXTRA_PCT = 25  # % by which all duties are raised at most, until every case holds
    PAYS_K = 0.3  # K: less than this for a tenth more speed does not pay


class Entered:
    """Whether a curve that was entered by hand shows. Source: firmware that rounds, sensors that differ."""

    APART_K = 3.0  # K by which the sensor that the firmware follows may read otherwise
    DUTY_PCT = 5.0  # % of duty by which firmware rounds, and boards read back
