"""Machines of the simulated bench as they stand in the world: no two alike, with walls that warm late."""

from dataclasses import replace

import numpy as np

from gelassen.bench.simulated import Case, Cooler

STEEL_J_PER_KG_K = 460.0


def furnished(case: Case, seed: int) -> Case:
    """Return a case with none to 15 kg of steel, to which its air leads 3 to 10 W/K."""
    rng = np.random.default_rng([seed, 1])
    return replace(
        case,
        walls_j_per_k=STEEL_J_PER_KG_K * rng.uniform(0, 15),
        walls_w_per_k=rng.uniform(3, 10),
    )


def another(cooler: Cooler, seed: int) -> Cooler:
    """Return another cooler of this kind: heavier or lighter, with better or worse fins."""
    body, coolant, forced, natural = np.random.default_rng([seed, 2]).normal(0, 1, 4)
    return replace(
        cooler,
        body_j_per_k=cooler.body_j_per_k * np.exp(0.3 * body),
        coolant_j_per_k=cooler.coolant_j_per_k * np.exp(0.3 * coolant),
        forced_w_per_k=cooler.forced_w_per_k * np.exp(0.15 * forced),
        natural_w_per_k=cooler.natural_w_per_k * np.exp(0.15 * natural),
    )
