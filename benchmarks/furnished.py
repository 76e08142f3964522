"""Machines of the simulated bench as they stand in the world: no two alike, with walls that warm late."""

from dataclasses import replace

import numpy as np

from gelassen.bench.simulated import Case, Cooler

STEEL_J_PER_KG_K = 460.0


def furnished(case: Case, seed: int) -> Case:
    """Return a case with some steel, to which its air leads 3 to 10 W/K.

    Boxes weigh 4 to 12 kg, small rack cabinets 20 to 40: 8 kg, within a factor of 4 in 95 of 100.
    """
    rng = np.random.default_rng([seed, 1])
    return replace(
        case,
        walls_j_per_k=STEEL_J_PER_KG_K * 8 * np.exp(0.7 * rng.normal()),
        walls_w_per_k=rng.uniform(3, 10),
    )


def another(cooler: Cooler, seed: int) -> Cooler:
    """Return another cooler of its kind: half or twice as heavy, with better or worse fins."""
    body, coolant, forced, natural, surface = np.random.default_rng([seed, 2]).normal(0, 1, 5)
    return replace(
        cooler,
        body_j_per_k=cooler.body_j_per_k * np.exp(0.5 * body),
        coolant_j_per_k=cooler.coolant_j_per_k * np.exp(0.5 * coolant),
        forced_w_per_k=cooler.forced_w_per_k * np.exp(0.2 * forced),
        natural_w_per_k=cooler.natural_w_per_k * np.exp(0.2 * natural),
        radiating_m2=cooler.radiating_m2 * np.exp(0.2 * surface),
    )
