"""Probabilities of hidden states over time, given how likely each state makes each sample."""

import numpy as np

from gelassen.core.foundation.inputs import Floats

# Products are brought back to a size of 1 once in so many samples. Each sample makes them smaller, at worst
# by the least likelihood (1e-12) times the rarest move (1e-7). Eight of these are 1e-152; numbers end at
# 1e-308.
_SCALED_EVERY = 8


def smooth_states(start: Floats, moves: Floats, fits: Floats) -> tuple[Floats, float]:
    """Return the probability of each state at each sample, and the log likelihood of all samples.

    The forward-backward method of hidden Markov models [1]_. Samples are cut into blocks. Products of
    matrices are made sample by sample, in all blocks at once. So n samples take about sqrt(n) steps.

    Parameters
    ----------
    start : ndarray, shape (s,)
        Probability of each state before the first sample.
    moves : ndarray, shape (n, s, s)
        Probability to go from one state (row) to another (column) on the way to each sample.
    fits : ndarray, shape (n, s)
        Likelihood of each sample in each state, above zero.

    References
    ----------
    .. [1] L. R. Rabiner, Proceedings of the IEEE 77, 257 (1989).
    """
    size, states = fits.shape
    top = fits.max(axis=1)
    length = max(int(np.sqrt(size)), 1)
    blocks = -(-size // length)
    steps = np.zeros((blocks * length, states, states))
    steps[:size] = moves * (fits / top[:, None])[:, None, :]
    steps[size:] = np.eye(states)
    steps = steps.reshape(blocks, length, states, states)
    ahead, log_ahead = _products(steps)
    behind, _ = _products(steps[:, ::-1].transpose(0, 1, 3, 2))
    # Probabilities at the edges of the blocks, from block to block.
    before, after = np.empty((blocks, states)), np.empty((blocks, states))
    total, now = float(np.log(top).sum()), start / start.sum()
    for block in range(blocks):
        before[block] = now
        now = now @ ahead[block, -1]
        total += float(np.log(now.sum())) + log_ahead[block]
        now = now / now.sum()
    now = np.ones(states)
    for block in reversed(range(blocks)):
        after[block] = now
        now = behind[block, -1].T @ now
        now = now / now.sum()
    # Within each block: what led here, times what follows.
    led = np.einsum("bs,blst->blt", before, ahead)
    follows = np.empty_like(led)
    follows[:, -1] = after
    follows[:, :-1] = np.einsum("blts,bt->bls", behind[:, :-1], after)[:, ::-1]
    found = (led * follows).reshape(-1, states)[:size]
    return found / found.sum(axis=1, keepdims=True), total


def _products(steps: Floats) -> tuple[Floats, Floats]:
    """Return the scaled running products of matrices within each block, and the logs of the scales."""
    made = np.empty_like(steps)
    made[:, 0] = steps[:, 0]
    logs = np.zeros(len(steps))
    for at in range(1, steps.shape[1]):
        np.matmul(made[:, at - 1], steps[:, at], out=made[:, at])
        if at % _SCALED_EVERY == 0 or at == steps.shape[1] - 1:
            scale = made[:, at].max(axis=(1, 2))
            made[:, at] /= scale[:, None, None]
            logs += np.log(scale)
    return made, logs
