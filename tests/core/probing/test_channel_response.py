import json
import subprocess
import sys

import numpy as np
import pytest

from gelassen.bench.simulated import COOLERS, CURVES, SimulatedBench
from gelassen.conduct.probing import probe_channels
from gelassen.core import InputError
from gelassen.core.probing.channel_response import probe_response
from gelassen.core.probing.probe_offsets import probe_offsets
from gelassen.study.file.reader import read_study_file


def test_a_probe_finds_what_moves_how_fast_and_how_coarse():
    t = np.arange(0, 80, 0.25)
    rise = np.where((t >= 20) & (t < 60), 30 * (1 - np.exp(-(t - 20) / 5)), 0)
    rng = np.random.default_rng(1)
    coarse = probe_response(t, np.round(40 + rise), load_start_s=20, load_end_s=60)
    assert coarse.moved
    assert coarse.step == 1.0
    assert coarse.follows_s == pytest.approx(5.0, abs=0.6)
    assert coarse.change == pytest.approx(30, abs=0.5)
    still = 40 + 0.2 * rng.standard_normal(t.size)
    assert not probe_response(t, still, load_start_s=20, load_end_s=60).moved
    slow = 40 + rise[(np.arange(t.size) // 8) * 8]  # a new value every two seconds
    assert probe_response(t, slow, load_start_s=20, load_end_s=60).renewed_s == pytest.approx(2.0)
    fan = 900 + 6 * rng.standard_normal(t.size) + np.where(t >= 20, 120, 0)
    assert probe_response(t, fan, load_start_s=20, load_end_s=60).moved
    with pytest.raises(InputError, match="before the load"):
        probe_response(t, still, load_start_s=0, load_end_s=60)


def test_the_simulated_bench_is_probed_through_the_same_door():
    bench = SimulatedBench(cooler=COOLERS["Brise 120"], curve=CURVES["off-air"], power_limit_w=95.0)
    found = probe_channels(bench)
    assert found["cpu.package.temp_c"].moved
    assert found["cpu.package.temp_c"].step == 1.0
    assert found["cpu.package.power_w"].follows_s < 3
    assert not found["room.air.temp_c"].moved
    assert not bench.actuators()["cpu.package.power_limit_w"].check()


def probes(rng, offsets, *, step=0.1, samples=600):
    air = 21 + np.cumsum(0.01 * rng.standard_normal(samples))  # the room wanders, for all alike
    noise = np.empty((len(offsets), samples))
    for row in noise:  # with memory of some seconds
        row[:] = np.convolve(0.1 * rng.standard_normal(samples + 9), np.ones(10) / 3, "valid")
    read = air + np.array(offsets)[:, None] + noise
    return {f"probe.p{k}.temp_c": np.round(r / step) * step for k, r in enumerate(read)}


@pytest.mark.parametrize("step", [0.1, 0.25, 1.0])
def test_intervals_of_offsets_cover_the_truth_as_often_as_they_say(step):
    rng = np.random.default_rng(11)
    covered = []
    for _ in range(250):
        wrong = rng.normal(0, 0.4, 3)
        found = probe_offsets(probes(rng, wrong, step=step))
        truth = wrong.mean() - wrong  # against the mean of the three
        covered += [o.low_k <= t <= o.high_k for o, t in zip(found, truth, strict=True)]
    # Chance alone moves this by 0.01. Whole degrees hide more than noise: there it is cautious.
    assert 0.92 <= np.mean(covered) <= (0.985 if step < 0.5 else 1.0)


def test_unsettled_probes_are_reported_and_too_few_readings_refused():
    rng = np.random.default_rng(2)
    readings = probes(rng, [0, 0.3])
    readings["probe.p1.temp_c"] = readings["probe.p1.temp_c"] + np.linspace(0, 1, 600)
    first, second = probe_offsets(readings, true="probe.p0.temp_c")
    assert first.offset_k == 0
    assert "against the others in this time" in second.cautions[0]
    with pytest.raises(InputError, match="at least two"):
        probe_offsets({"a.b.temp_c": [1.0]})
    with pytest.raises(InputError, match="in common"):
        probe_offsets({"a.b.temp_c": [1.0] * 9, "a.c.temp_c": [1.0] * 9})
    with pytest.raises(InputError, match="none of the probes"):
        probe_offsets(readings, true="x")


def test_offsets_are_stored_in_the_study_and_its_comments_stay(tmp_path):
    from gelassen.conduct import RunPlan, plan_phases, record_run

    study = tmp_path / "study.toml"
    study.write_text(
        '# mine\nformat = 1\ntitle = "x"  # short\n[machine]\nname = "b"\nlimit_c = 95\n'
        '[channels."case.air.temp_c"]\nnote = "blue wire"\n'
    )
    bench = SimulatedBench(cooler=COOLERS["Brise 120"], curve=CURVES["on-air"], power_limit_w=65.0)
    run, _ = record_run(
        bench, RunPlan(phases=plan_phases(300, 1, 0, 0)[:1]), tmp_path / "runs", label="lay"
    )
    done = subprocess.run(
        [
            sys.executable, "-c", "from gelassen.cli import main; main()", "channels",
            "--together", "room.air.temp_c", "--together", "case.air.temp_c",
            "--true", "room.air.temp_c", "--run", str(run), "--study", str(tmp_path), "--store",
            "--format", "json",
        ],
        capture_output=True, text=True, check=False,
    )  # fmt: skip
    assert done.returncode == 0, done.stderr
    (_, case) = json.loads(done.stdout)
    text = study.read_text()
    assert "# mine" in text
    assert "# short" in text
    stored = read_study_file(study).channels["case.air.temp_c"]
    assert stored.offset == pytest.approx(case["offset_k"], abs=1e-3)
    assert stored.offset_se == pytest.approx(case["standard_error_k"], abs=1e-3)
    assert stored.note == "blue wire"
