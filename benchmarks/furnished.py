"""Machines of the simulated bench as they stand in the world: no two alike, with walls that warm late."""

from dataclasses import replace

import numpy as np

from gelassen.bench.simulated import COOLERS, Case, Cooler

STEEL_J_PER_KG_K = 460.0
# Beside those of the sample scenario: the quick and the slow of their kinds.
KINDS = {
    **COOLERS,
    "small fins": Cooler(  # a third of a kilogram of aluminium, for 25 W
        name="small fins",
        contact_k_per_w=0.15,
        body_j_per_k=300.0,
        forced_w_per_k=0.0,
        natural_w_per_k=0.3,
        radiating_m2=0.05,
        top_rpm=0.0,
    ),
    "finned case": Cooler(  # five and a half kilograms of aluminium, the whole case
        name="finned case",
        body_j_per_k=5000.0,
        forced_w_per_k=0.0,
        natural_w_per_k=1.0,
        radiating_m2=0.2,
        top_rpm=0.0,
    ),
    "large loop": Cooler(  # a litre and a half with its reservoir, three fans on the radiator
        name="large loop",
        contact_k_per_w=0.045,
        body_j_per_k=250.0,
        coolant_j_per_k=6000.0,
        coolant_w_per_k=20.0,
        forced_w_per_k=7.0,
        top_rpm=1500.0,
    ),
}


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
