"""Studies recorded on the simulated bench: single runs, programs, work without temperatures."""

from collections.abc import Mapping, Sequence
from pathlib import Path

from gelassen.answers.study import open_study
from gelassen.bench.interface import ChannelInfo
from gelassen.bench.simulated import COOLERS, CURVES, SimulatedBench
from gelassen.conduct.planning.plan import RunPlan, plan_phases
from gelassen.conduct.recording import record_run
from gelassen.conduct.rehearsal import simulated_bench
from gelassen.conduct.scenarios.scenario import Scenario, head, setups
from gelassen.conduct.study_run import conduct_study

_COOLERS = ("Kiesel 92", "Brise 120", "Tarn 240")
_INTERVAL_S = 2.0
_HIDDEN = (".temp_c", "throttle_count")
_PHASES = plan_phases(idle=120, soak=1200, hold=300, cooldown=120)


def _single(folder: Path, seed: int) -> None:
    for place, cooler in enumerate(_COOLERS):
        bench = SimulatedBench(
            cooler=COOLERS[cooler], curve=CURVES["off-air"], power_limit_w=95.0, seed=seed + place
        )
        record_run(
            bench, RunPlan(phases=_PHASES, interval_s=_INTERVAL_S), folder / "runs", label=cooler,
            setup=cooler, limit_c=95.0, power_limit_w=95.0, reference="room.air.temp_c", made_up=True,
        )  # fmt: skip


def _programs(folder: Path, seed: int) -> None:
    study = open_study(folder)
    made = conduct_study(
        study, lambda planned: simulated_bench(study.file, planned, seed=seed), operator=lambda _: True,
        checks=False,
    )  # fmt: skip
    for _ in made:
        pass


class _NoTemperatures(SimulatedBench):
    """A machine without sensors of temperature."""

    def channels(self) -> Sequence[ChannelInfo]:
        """Return what is left."""
        return [info for info in super().channels() if not info.name.endswith(_HIDDEN)]

    def read(self) -> Mapping[str, float]:
        """Return what is left."""
        return {n: value for n, value in super().read().items() if not n.endswith(_HIDDEN)}


def _without_temperatures(folder: Path, seed: int) -> None:
    for repeat in range(2):
        for place, cooler in enumerate(_COOLERS):
            bench = _NoTemperatures(
                cooler=COOLERS[cooler], curve=CURVES["on-air"], power_limit_w=150.0,
                seed=seed + 10 * repeat + place,
            )  # fmt: skip
            record_run(
                bench, RunPlan(phases=_PHASES, interval_s=_INTERVAL_S), folder / "runs", label=cooler,
                setup=cooler, made_up=True,
            )  # fmt: skip


_WORKLOADS = """
[protocol]
idle = "2 min"
repeats = 2

[[workloads]]
name = "schedule only"
load = "integer"
duty_pct = 10
length = "15 min"

[[workloads]]
name = "two streams"
load = "matrix"
workers = 2
length = "15 min"

[[workloads]]
name = "render"
load = "matrix"
length = "20 min"
"""

SINGLE = Scenario(
    about="one run a setup, with a stated scatter of remounting",
    study=head("One run a cooler", "Which cooler is cooler, from one run each?")
    + setups("cooler", *_COOLERS)
    + "\n[doubt]\nremounting_k = 0.5\nmatters_k = 1.0\n",
    fill=_single,
    ask=(("--baseline", "Kiesel 92"),),
)
PROGRAMS = Scenario(
    about="a list of programs that every setup runs through",
    study=head(
        "Programs on the playout box", "Which program is the hottest?", 'baseline = "Kiesel 92"\n'
    )
    + setups("cooler", "Kiesel 92", "Brise 120")
    + _WORKLOADS,
    fill=_programs,
    ask=((),),
)
SCORE = Scenario(
    about="a machine without a sensor of temperature: what was done, and the clock",
    study=head(
        "Work without temperatures",
        "Which cooler lets the box do more?",
        'baseline = "Kiesel 92"\n',
    )
    + setups("cooler", *_COOLERS),
    fill=_without_temperatures,
    ask=(("--by", "work"), ("--by", "work per watt")),
)
