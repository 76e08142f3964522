import numpy as np
import pytest

from gelassen.bench import Bench
from gelassen.bench.simulated import CASES, COOLERS, CURVES, Room, SimulatedBench
from gelassen.core import BenchError, InputError

QUIET = Room(wave_k=0.0, wander_k=0.0)


def bench_of(cooler="Brise 120", curve="on-air", **options):
    return SimulatedBench(cooler=COOLERS[cooler], curve=CURVES[curve], **options)


def loaded(bench, seconds):
    load = bench.load("matrix")
    load.start()
    bench.sleep(seconds)
    return bench.read()


@pytest.mark.parametrize("cooler", COOLERS)
def test_time_ends_where_the_truth_says(cooler):
    bench: Bench = bench_of(cooler, power_limit_w=65, room=QUIET)
    truth = bench.truth()
    loaded(bench, 4 * 3600)
    readings = []
    for _ in range(300):
        bench.sleep(1)
        readings.append(bench.read())
    hottest = np.mean([max(r[f"cpu.core{k}.temp_c"] for k in range(12)) for r in readings])
    assert hottest == pytest.approx(truth.hottest_core_c, abs=0.6)
    power = np.mean([r["cpu.package.power_w"] for r in readings])
    assert power == pytest.approx(truth.power_w, rel=0.01)
    assert np.mean([r["case.air.temp_c"] for r in readings]) == pytest.approx(
        truth.case_air_c, abs=0.2
    )


def test_physics_points_the_right_way():
    def rise(**options):
        return bench_of(**{"power_limit_w": 95.0, "remount_spread": 0, **options}).truth().rise_k

    assert rise(curve="off-air") < rise(curve="on-air")
    assert rise(case=CASES["open"]) < rise(case=CASES["closed"])
    assert rise(power_limit_w=65.0) < rise(power_limit_w=95.0)
    assert rise(room=Room(mean_c=30)) == pytest.approx(rise(room=Room(mean_c=20)), abs=4)
    # Free convection and radiation: half the power gives more than half the rise.
    low, high = rise(cooler="Steg", power_limit_w=30.0), rise(cooler="Steg", power_limit_w=60.0)
    assert low > 0.52 * high
    mounts = [bench_of(power_limit_w=125.0, seed=s).truth().rise_k for s in range(12)]
    assert 0.15 < np.std(mounts) < 1.5


def test_the_chip_holds_itself_at_its_limit():
    bench = bench_of("Kiesel 92", room=Room(mean_c=30, wave_k=0, wander_k=0), power_limit_w=125)
    truth = bench.truth()
    assert truth.at_limit
    assert truth.power_w < 120
    loaded(bench, 2400)
    readings = []
    for _ in range(200):
        bench.sleep(1)
        readings.append(bench.read())
    assert np.mean([r["cpu.package.temp_c"] for r in readings]) == pytest.approx(95, abs=1.5)
    assert np.mean([r["cpu.package.power_w"] for r in readings]) == pytest.approx(
        truth.power_w, rel=0.03
    )
    assert readings[-1]["cpu.package.throttle_count"] > 0


def test_same_seed_same_readings_and_only_sensor_steps():
    first, second = (loaded(bench_of(seed=5), 100) for _ in range(2))
    other = loaded(bench_of(seed=6), 100)
    assert first == second
    assert first != other
    assert all(first[f"cpu.core{k}.temp_c"].is_integer() for k in range(12))


def test_the_power_limit_is_set_and_put_back():
    bench = bench_of(power_limit_w=95)
    limit = bench.actuators()["cpu.package.power_limit_w"]
    limit.set(65)
    limit.set(45)
    assert limit.read() == 45
    limit.restore()
    assert limit.read() == 95
    with pytest.raises(BenchError, match="5 to 400 W"):
        limit.set(9000)
    with pytest.raises(InputError, match="is not a load"):
        bench.load("game")


def test_fans_box_and_cores_can_change_in_mid_run_and_the_truth_follows():
    bench = SimulatedBench(cooler=COOLERS["Kiesel 92"], curve=CURVES["on-air"], power_limit_w=60)
    load = bench.load("matrix")
    load.start()
    bench.sleep(3600)
    before, warm = bench.truth(), bench.read()["cpu.package.temp_c"]
    bench.change(case=CASES["open"])
    assert bench.read()["cpu.package.temp_c"] == pytest.approx(warm, abs=2)  # warm stays warm
    opened = bench.truth()
    bench.change(curve=CURVES["off-air"])
    faster = bench.truth()
    bench.work_on(4)
    fewer = bench.truth()
    assert before.rise_k - 1 > opened.rise_k > faster.rise_k + 1
    assert opened.fan_rpm < faster.fan_rpm
    assert fewer.power_w < faster.power_w - 3
    bench.sleep(3600)
    assert bench.read()["cpu.package.temp_c"] == pytest.approx(fewer.hottest_core_c, abs=2.5)
