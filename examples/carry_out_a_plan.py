"""A study described, carried out and compared on a simulated bench. All of it is made-up data."""

import tempfile
from pathlib import Path

from gelassen import open_study
from gelassen.bench.simulated import COOLERS, CURVES, SimulatedBench
from gelassen.conduct import conduct_study

STUDY = """\
format = 1
title = "A cooler for the playout box"
made_up = true
combine = "full"
[machine]
name = "Playout box"
limit_c = 95
[factors.cooler]
levels = ["Brise 120", "Kiesel 92"]
[protocol]
idle = "until rested"
soak = "until known"
hold = "until known"
cooldown = 0
repeats = 2
"""


def bench_of(planned):
    """Return the bench for a run; a real one would be this machine."""
    cooler = COOLERS[planned.levels["cooler"]]
    return SimulatedBench(
        cooler=cooler, curve=CURVES["on-air"], power_limit_w=95, seed=planned.block
    )


print("made-up sample data")
with tempfile.TemporaryDirectory() as folder:
    Path(folder, "study.toml").write_text(STUDY)
    for made in conduct_study(
        open_study(folder), bench_of, operator=lambda planned: "new paste", say=print
    ):
        print(f"{made.outcome.status}: {made.folder.name}")
    print(open_study(folder).compare())
