"""The noise of a series, its memory, and the steps of the sensor."""

import numpy as np

from gelassen.core.foundation.inputs import Floats
from gelassen.core.signal.thresholds import Noise

# Standard deviation of normal noise over its median absolute deviation (any textbook on robust statistics).
MAD_TO_STD = 1.4826


def step_size(values: Floats) -> float:
    """Return the smallest step a channel shows, in its own unit; 0 if no step can be made out.

    A quantised channel repeats few distinct values. Their smallest distance is the step. Later arithmetic
    may blur each value a little: then readings lie in tight clusters, and the steps between these count.
    """
    present = values[np.isfinite(values)]
    ordered = np.sort(np.round(present, 6))
    gaps = np.diff(ordered)
    distinct = int(np.count_nonzero(gaps)) + 1
    if distinct < 2:
        return 0.0
    if distinct <= Noise.FEW_VALUES * present.size:
        return _blurred_step(ordered, gaps) or float(gaps[gaps > 0].min())
    return _blurred_step(ordered, gaps)


def _blurred_step(ordered: Floats, gaps: Floats) -> float:
    """Return the step between tight clusters of readings; 0 if there are none."""
    sizes = np.sort(gaps[gaps > 0])
    ratios = sizes[1:] / sizes[:-1]
    if not ratios.size or ratios.max() < Noise.APART:
        return 0.0
    border = float(sizes[int(np.argmax(ratios))])
    cluster = np.concatenate([[0], np.cumsum(gaps > border)])
    counts = np.bincount(cluster)
    centres = np.bincount(cluster, ordered) / counts
    steps = np.diff(centres)
    if counts.size < Noise.FEWEST_VALUES or counts.size > Noise.FEW_VALUES * ordered.size:
        return 0.0
    step = float(steps.min())
    last = np.cumsum(counts) - 1
    spread = float((ordered[last] - ordered[last - counts + 1]).max())
    whole = np.abs(steps / step - np.round(steps / step)).max() <= Noise.WHOLE
    return step if spread <= Noise.TIGHT * step and whole else 0.0


def stair_size(values: Floats) -> float:
    """Return the step of coarse readings from which a finer reference was taken; 0 if none shows.

    Such a difference has the fine steps of the reference, but it moves by those of the sensor: a few
    times or often, always by about as much, and hardly at all in between.
    """
    moves = np.abs(np.diff(values[np.isfinite(values)]))
    jumped = moves > moves.max(initial=0.0) / 2
    if jumped.sum() < Noise.FEWEST_JUMPS:
        return 0.0
    step = float(np.median(moves[jumped]))
    alike = np.ptp(moves[jumped]) <= Noise.ALIKE * step
    return step if alike and moves[~jumped].max(initial=0.0) <= Noise.STILL * step else 0.0


def noise_density(residual: Floats, interval_s: float) -> float:
    """Return the noise power at frequency zero, in unit² · s.

    The variance of a mean over a span of T seconds is this number divided by T. Readings a second
    apart repeat each other, so the variance of a single reading is not enough. The power is estimated from
    means of ever longer blocks [1]_. The estimate grows until blocks outlast the memory of the noise, and
    it scatters more and more. A longer block counts if the estimate grew by more than its scatter.

    References
    ----------
    .. [1] H. Flyvbjerg and H. G. Petersen, J. Chem. Phys. 91, 461 (1989).
    """
    present = residual[np.isfinite(residual)]
    if present.size < 4:
        return 0.0
    means, length = present, 1
    density = before = last = 0.0
    while True:
        left = means - means.sum() / means.size
        now = interval_s * length * float(left @ left) / (left.size - 1)
        if now > density * (1 + np.sqrt(2 / (left.size - 1))):
            density, before = now, last
        last = now
        # Blocks twice as long are made of two each; some are needed for a variance.
        length *= 2
        if present.size // length < Noise.FEWEST_BLOCKS:
            break
        pairs = means[: means.size // 2 * 2]
        means = (pairs[::2] + pairs[1::2]) / 2
    grew = density - before if before else 0.0
    return density + Noise.GROWS_ON * max(grew, 0.0)


def noise_covariance(
    middle_s: Floats, duration_s: Floats, density: float, variance: float
) -> Floats:
    """Return the covariance of means over bins, for noise whose memory fades exponentially.

    Parameters
    ----------
    middle_s, duration_s : array, shape (bins,)
        Middle and length of each bin; bins do not overlap.
    density : float
        Noise power at frequency zero, from `noise_density`, in unit² · s.
    variance : float
        Variance of a single reading, in unit².
    """
    memory = density / (2 * variance)
    ages = duration_s / memory
    faded = -np.expm1(-ages) / ages
    gaps = np.abs(middle_s[:, None] - middle_s) - (duration_s[:, None] + duration_s) / 2
    covariance = variance * np.outer(faded, faded) * np.exp(-gaps.clip(min=0) / memory)
    np.fill_diagonal(covariance, variance * 2 / ages * (1 - faded))
    return np.asarray(covariance)


def noise_std(values: Floats) -> float:
    """Return the standard deviation of the reading noise, from second differences.

    Any smooth course cancels in ``x[i-1] - 2 x[i] + x[i+1]``, whose variance is 6 times the noise's.
    """
    present = values[np.isfinite(values)]
    if present.size < 3:
        return 0.0
    return float(np.sqrt(np.mean(np.diff(present, 2) ** 2) / 6))


def quantisation_error(values: Floats, step: float | None = None) -> float:
    """Return the standard error that coarse steps leave in a long mean, in the channel's unit.

    The step is found from the values if it is not told.

    Noise of a third of a step or more carries the mean over the steps; a sensor stuck on one value
    hides up to half a step [1]_. In between, the bias of a mean shrinks as
    ``exp(-2 (pi * noise / step)²)`` (first term of its Fourier series over the steps). A course
    that crosses several steps is averaged over them too.

    References
    ----------
    .. [1] JCGM 100:2008 (GUM), F.2.2.1: a reading known to within a step has
       ``step / sqrt(12)`` as its standard uncertainty.
    """
    present = values[np.isfinite(values)]
    if present.size == 0:
        return 0.0
    step = step_size(present) if step is None else step
    if step == 0:
        if np.ptp(present) > Noise.CONSTANT:
            return 0.0
        # A constant channel shows no step, and the digits it is written with tell nothing.
        step = Noise.USUAL_STEP
    crossed = float(np.ptp(_smooth(present))) / step
    return float(step / np.sqrt(12) * left_by_noise(present, step) / (1 + crossed))


def left_by_noise(readings: Floats, step: float) -> float:
    """Return the share of the rounding error of a mean that noise does not average out, 0 to 1."""
    # Rounding itself adds step²/12 to the variance of readings that move between values.
    # Noise that lasts some seconds carries the mean over the steps just as well as white noise.
    noise = np.sqrt(max(_scatter(readings) ** 2 - step**2 / 12, 0.0))
    return float(np.exp(-2 * (np.pi * noise / step) ** 2))


def _scatter(values: Floats) -> float:
    """Return the standard deviation about straight lines through stretches of a minute or so."""
    length = min(60, values.size)
    if length < 4:
        return 0.0
    blocks = values[: values.size // length * length].reshape(-1, length)
    ramp = np.arange(length) - (length - 1) / 2
    left = blocks - blocks.mean(axis=1, keepdims=True)
    left = left - np.outer(left @ ramp / (ramp @ ramp), ramp)
    return float(np.sqrt((left**2).sum() / (left.size - 2 * len(blocks))))


def _smooth(values: Floats) -> Floats:
    length = max(values.size // 10, 1)
    blocks = values[: values.size // length * length].reshape(-1, length)
    return np.asarray(blocks.mean(axis=1))
