"""What the supply of a machine gives under each load, and what is left of it."""

import pandas as pd

from gelassen.answers.thresholds import Supply
from gelassen.core.foundation.caution import Caution, caution
from gelassen.study.file.study_file import Machine


def with_supply(setups: pd.DataFrame, machine: Machine) -> pd.DataFrame:
    """Return the setups with the margin of the supply, and its current where only its power was logged."""
    current = setups["supply_a"]
    if machine.supply_v is not None:
        current = current.fillna(setups["supply_w"] / machine.supply_v)
    rated = float("nan") if machine.supply_w is None else machine.supply_w
    return setups.assign(supply_a=current, supply_margin_w=rated - setups["supply_highest_w"])


def little_margin(setups: pd.DataFrame, machine: Machine) -> list[Caution]:
    """Return a caution for each setup and load that leaves less of the supply than is usually kept free."""
    if machine.supply_w is None:
        return []
    tight = setups[setups["supply_margin_w"] < Supply.KEPT_FREE * machine.supply_w]
    return [
        caution(
            "little_supply_margin", load=str(row["load"]), setup=str(row["setup"]),
            highest_w=float(row["supply_highest_w"]), rated_w=machine.supply_w,
        )
        for row in tight.to_dict("records")
    ]  # fmt: skip
