"""Studies whose results were read off a screen and typed."""

from pathlib import Path

import numpy as np

from gelassen.conduct.operator.entering import Entry, enter_run
from gelassen.conduct.scenarios.scenario import Scenario, head, setups

_COOLERS = ("Kiesel 92", "Brise 120", "Tarn 240")
# Where the hottest core settles over the room at 95 W, in K; what runs of one cooler scatter by.
_RISES_K, _SCATTER_K = (58.0, 46.5, 42.0), 0.3
_ROOM_C, _REST_K = 22.4, 12.0
_READ_ABOVE_K = 0.9  # a highest reading lies above the mean by the noise of the sensor
_LADDER_W = {"Kiesel 92": (115, 130), "Brise 120": (140, 155), "Tarn 240": (160, 175)}


def _by_hand(folder: Path, seed: int) -> None:
    rng = np.random.default_rng(seed)
    for cooler, rise_k, noise_dba in zip(_COOLERS, _RISES_K, (38.0, 33.0, 36.0), strict=True):
        room_c = _ROOM_C + rng.normal(0, 0.3)
        highest_c = room_c + rise_k + rng.normal(0, _SCATTER_K) + _READ_ABOVE_K
        readings = {
            "highest_c": round(highest_c), "rest_c": round(room_c + _REST_K), "room_c": round(room_c, 1),
            "room_se": 0.3, "power_w": 95.0, "minutes": 25.0, "noise_dba": noise_dba,
        }  # fmt: skip
        enter_run(folder, Entry(setup=cooler, readings=readings, note="read off a screen"))


def _ladder(folder: Path, seed: int) -> None:
    for cooler, (held_w, lost_w) in _LADDER_W.items():
        for power_w in range(85, lost_w + 1, 15):
            ending = "held" if power_w <= held_w else "held back"
            entry = Entry(
                setup=cooler, readings={"power_w": float(power_w), "minutes": 20.0}, ending=ending,
                levels={"power": float(power_w)},
            )  # fmt: skip
            enter_run(folder, entry)


def _worth(folder: Path, seed: int) -> None:
    rng = np.random.default_rng(seed)
    rises_k = {**dict(zip(_COOLERS, _RISES_K, strict=True)), "Brise 120 Gold": _RISES_K[1]}
    for _ in range(2):
        for cooler, rise_k in rises_k.items():
            rise = rise_k + rng.normal(0, _SCATTER_K)
            readings = {
                "end_c": round(_ROOM_C + rise, 1), "room_c": _ROOM_C, "power_w": 95.0, "minutes": 45.0,
            }  # fmt: skip
            enter_run(folder, Entry(setup=cooler, readings=readings))


_PRICES = """
[factors.cooler.details]
"Kiesel 92" = { price = 25, noise = 38 }
"Brise 120" = { price = 45, noise = 33 }
"Brise 120 Gold" = { price = 70, noise = 33 }
"Tarn 240" = { price = 110, noise = 36 }
"""

BY_HAND = Scenario(
    about="results read off a screen, one run a setup",
    study=head("Coolers, read off a screen", "Which cooler is cooler, from typed numbers?")
    + setups("cooler", *_COOLERS),
    fill=_by_hand,
    ask=(("--baseline", "Kiesel 92"), ("--by", "rest")),
)
LADDER = Scenario(
    about="how far until it fails: powers tried one after the other",
    study=head("How much power until it throttles?", "Up to which power does each cooler hold?")
    + setups("cooler", *_COOLERS)
    + '\n[factors.power]\nlevels = [85, 100, 115, 130, 145, 160, 175]\nchanged_by = "hand"\n',
    fill=_ladder,
    ask=(("--ladder", "power"),),
)
WORTH = Scenario(
    about="what a kelvin costs, and what costs more for nothing",
    study=head(
        "Coolers and their price", "Which cooler is worth its price?", 'baseline = "Kiesel 92"\n'
    )
    + setups("cooler", *_COOLERS, "Brise 120 Gold")
    + _PRICES,
    fill=_worth,
    ask=(("--tradeoff", "price"), ()),
)
