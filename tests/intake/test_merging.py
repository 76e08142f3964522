"""Several loggers of one run, mapping files, and what goes out again."""

import tomllib
from pathlib import Path

import numpy as np
import pandas as pd
import pytest
from click.testing import CliRunner

import gelassen
from gelassen.cli import cli
from gelassen.core import InputError
from gelassen.core.changes.alignment import align_changes
from gelassen.intake.merge import merge_logs
from gelassen.intake.understanding import LogOptions

SENSORS, METER = "sensors.csv", "meter.csv"


@pytest.fixture
def two_logs(tmp_path, monkeypatch):
    """The sensors of the machine, and a meter that was started 40 s earlier and reads every 2.5 s."""
    monkeypatch.chdir(tmp_path)
    rng = np.random.default_rng(5)
    t = np.arange(0, 1500.0)
    power = np.where((t >= 300) & (t < 1200), 95.0, 18.0) + rng.normal(0, 0.5, t.size)
    temperature = 21 + 0.3 * np.convolve(power, np.exp(-np.arange(600) / 90) / 90)[: t.size]
    sensors = pd.DataFrame(
        {"Time [s]": t, "CPU Package [°C]": np.round(temperature), "CPU Power [W]": power}
    )
    sensors.round(2).to_csv(SENSORS, index=False)
    late = np.arange(0, 1400, 2.5)
    at = np.interp(late - 40, t, power)
    meter = pd.DataFrame(
        {"Time [s]": late, "Wall Power [W]": 1.15 * at + 30, "Room [°C]": 21 + late / 1e4}
    )
    meter.round(3).to_csv(METER, index=False)
    return tmp_path


def test_logs_are_aligned_by_their_changes_and_nothing_is_made_up(two_logs):
    logs = [gelassen.read_log(name) for name in (SENSORS, METER)]
    merged, (joined,) = merge_logs(logs)
    assert joined.how == "matched changes"
    assert joined.low_s <= -40 <= joined.high_s
    assert joined.high_s - joined.low_s < 6
    room = merged.frame["room.air.temp_c"]
    known = room[room.notna()]
    # The first 40 s were read by the meter only, the last 140 s by the sensors only.
    assert known.index[0] == 0
    assert known.index[-1] == pytest.approx(1397.5, abs=2.5)
    assert merged.frame["cpu.package.temp_c"].first_valid_index() == pytest.approx(40, abs=3)
    assert known.to_numpy() == pytest.approx(21 + known.index.to_numpy() / 1e4, abs=1e-3)
    told, _ = merge_logs(logs, offsets={"meter": -40.0})
    assert told.frame["cpu.package.temp_c"].first_valid_index() == 40


def test_one_of_the_logs_of_a_run_holds_its_temperatures(two_logs):
    pd.read_csv(METER).drop(columns="Room [°C]").to_csv(METER, index=False)
    run = ["import", SENSORS, METER, "--study", "study", "--setup", "tower", "--limit", "95"]
    done = CliRunner().invoke(cli, [*run, "--new-setup"])
    assert done.exit_code == 0, done.output
    (folder,) = (two_logs / "study" / "runs").iterdir()
    frame = gelassen.read_run(folder).frame
    assert {"wall.supply.power_w", "cpu.package.temp_c"} <= set(frame.columns)
    for alone in ([METER], [SENSORS, METER, "--each"]):
        refused = CliRunner().invoke(cli, ["import", *alone, "--dry-run"])
        assert "meter.csv: no column is known to be a temperature" in str(refused.exception)


def test_an_offset_that_cannot_be_told_is_asked_for(two_logs):
    logs = [gelassen.read_log(name) for name in (SENSORS, METER)]
    with pytest.raises(InputError, match="do not overlap.*--offset meter=SECONDS"):
        merge_logs(logs, offsets={"meter": 9000.0})
    with pytest.raises(InputError, match="the logs after the first are: meter"):
        merge_logs(logs, offsets={"metre": 1.0})
    flat = align_changes(np.arange(100), np.ones(100), np.arange(100), np.arange(100))
    assert not np.isfinite(flat.offset_s)
    beats = np.tile([0.0] * 20 + [1.0] * 20, 20)  # fits as well one beat later
    assert "two offsets" in align_changes(range(800), beats, range(800), beats).cautions[0]


def test_intervals_of_offsets_cover_the_truth():
    rng = np.random.default_rng(8)
    covered, told = 0, 0
    for _ in range(60):
        true_s = rng.uniform(-100, 100)
        moments, levels = np.cumsum(rng.uniform(100, 400, 5)), rng.uniform(20, 140, 6)
        a = np.arange(0, moments[-1] + 200)
        b = np.arange(20, moments[-1] + 150, 1.7)
        found = align_changes(
            a, levels[np.searchsorted(moments, a)] + rng.normal(0, 1, a.size),
            b - true_s, 30 + 1.1 * levels[np.searchsorted(moments, b)] + rng.normal(0, 2, b.size),
        )  # fmt: skip
        told += np.isfinite(found.offset_s)
        covered += found.low_s <= true_s <= found.high_s
    assert told >= 45
    assert covered >= 57


def run(*arguments, status=0):
    result = CliRunner().invoke(cli, [str(a) for a in arguments])
    text = result.output + (f" {result.exception}" if result.exception else "")
    assert (result.exit_code == 0) == (status == 0), text
    return text


@pytest.mark.parametrize("form", ["rounds", "blocks", "jittered", "decimal comma", "date and time"])
def test_a_table_with_one_line_a_reading_is_a_log(two_logs, form):
    whole = pd.read_csv(SENSORS)
    sensors = {"CPU Package": ("°C", whole.iloc[:, 1]), "CPU Power": ("W", whole.iloc[:, 2])}
    long = pd.concat(
        pd.DataFrame(
            {"sensor": name, "core": 0, "time": whole["Time [s]"], "value": x, "unit": unit}
        )
        for name, (unit, x) in sensors.items()
    )
    if form == "jittered":  # each sensor has moments of its own
        long["time"] += np.where(long["sensor"] == "CPU Power", 0.21, 0.05)
    if form != "blocks":
        long = long.sort_values("time", kind="stable")
    mark = {"sep": ";", "decimal": ","} if form == "decimal comma" else {}
    if form == "date and time":  # over midnight
        stamps = pd.Timestamp("2026-03-02T23:50") + pd.to_timedelta(long["time"], "s")
        long["time"], long["date"] = stamps.dt.strftime("%H:%M:%S"), stamps.dt.strftime("%d.%m.%Y")
    long.to_csv("long.csv", index=False, **mark)
    with Path("long.csv").open("a") as file:
        file.write("CPU Pow")  # a torn line
    log = gelassen.read_log("long.csv")
    assert any("left out: 1 line without" in text for text in log.cautions)
    found = log.frame
    assert found["cpu.package.temp_c"].tolist() == whole.iloc[:, 1].tolist()
    assert found["cpu.package.power_w"].tolist() == whole.iloc[:, 2].tolist()
    assert found.index.tolist() == pytest.approx(list(range(1500)), abs=0.06)


@pytest.mark.parametrize("clock", ["stamps", "a counter of seconds"])
def test_a_log_in_several_files_is_one_run_in_the_order_of_its_clock(two_logs, clock):
    whole = pd.read_csv(SENSORS)
    if clock == "stamps":
        whole["Time [s]"] = pd.Timestamp("2026-03-02T10:00") + pd.to_timedelta(
            whole["Time [s]"], "s"
        )
    names = ["b.csv", "c.csv", "a.csv"]
    for k, name in enumerate(names):
        whole[500 * k : 500 * (k + 1)].to_csv(name, index=False)
    told = run("import", *sorted(names), "--study", "s", "--setup", "a", "--limit", 95, "--yes")
    assert "3 files of one log" in told
    (stored,) = (two_logs / "s/runs").iterdir()
    found = gelassen.read_log(stored)
    assert found.frame.index.tolist() == list(range(1500))
    assert found.frame["cpu.package.power_w"].tolist() == whole.iloc[:, 2].tolist()
    assert found.load_span_s() == pytest.approx((300, 1199), abs=2)
    assert "one run each" in run("import", "b.csv", "a.csv", "--dry-run")  # the middle is missing
    for apart in (("--each",), ("--setup", "a", "--setup", "b", "--setup", "c")):
        assert "of one log" not in run("import", *names, *apart, "--dry-run")


def test_runs_that_a_script_made_one_after_the_other_stay_apart(two_logs):
    whole = pd.read_csv(SENSORS)
    for k, name in enumerate(("a.csv", "b.csv")):  # each begins at rest, a second after the other
        whole.assign(**{"Time [s]": whole["Time [s]"] + 1000 + 1500 * k}).to_csv(name, index=False)
    assert "one run each" in run("import", "a.csv", "b.csv", "--dry-run")
    assert "of one log" in run("import", "a.csv", "b.csv", "--merge", "--dry-run")


def test_import_shows_merges_keeps_the_originals_and_gives_them_out_again(two_logs):
    dry = run("import", SENSORS, METER, "--dry-run")
    assert "merged into one run" in dry
    assert "by matched changes, cpu.package.power_w with wall.supply.power_w" in dry
    assert not (two_logs / "study").exists()
    run(
        "import", SENSORS, METER, "--study", "study", "--setup", "Brise 120", "--limit", 95, "--yes"
    )
    folder = two_logs / "study" / "runs" / "001-brise-120-sensors"
    assert (folder / "original-2.csv").read_bytes() == (two_logs / METER).read_bytes()
    assert list((two_logs / "study" / "figures").glob("*meter.png"))
    phases = [phase.name for phase in gelassen.read_log(folder).phases]
    assert phases == ["idle", "soak", "hold", "cooldown"]
    run("show", folder, "--samples", "--format", "csv", "--output", "out.csv")
    run("show", folder, "--format", "parquet", "--output", "out.parquet")
    again = gelassen.read_log("out.csv").frame
    pd.testing.assert_frame_equal(again, gelassen.read_log(folder).frame, check_exact=False)
    pd.testing.assert_frame_equal(again, gelassen.read_log("out.parquet").frame, check_exact=False)
    tidy = run("show", folder, "--samples", "--tidy", "--format", "csv").splitlines()
    assert tidy[0] == "t_s,channel,value"


def test_a_column_of_one_of_two_merged_logs_can_be_named(tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    stamps = [f"2031-04-03T10:{k // 60:02d}:{k % 60:02d}" for k in range(0, 900, 5)]
    rows = [f"{stamp},{40 + 20 * (k > 24)},{12 + 80 * (k > 24)}" for k, stamp in enumerate(stamps)]
    Path("pc.csv").write_text("Time,CPU Package [°C],CPU Package Power [W]\n" + "\n".join(rows))
    probe = [f"{stamp},{22 + 0.01 * k:.2f}" for k, stamp in enumerate(stamps)]
    Path("probe.csv").write_text("Time,Probe 1 (C)\n" + "\n".join(probe))
    logs = ("import", "pc.csv", "probe.csv", "--merge", "--dry-run")
    assert "--column 'Probe 1 (C)=room.air.temp_c'" in run(*logs)
    told = run(*logs, "--column", "Probe 1 (C)=room.air.temp_c")
    assert "not clear which part" not in told
    assert "room.air.temp_c" in told
    refused = run(*logs, "--column", "Probe 2 (C)=room.air.temp_c", status=2)
    assert 'none of these logs has a column "Probe 2 (C)"' in refused
    assert 'Did you mean "Probe 1 (C)"?' in refused


def test_a_mapping_that_was_worked_out_serves_for_the_next_log(two_logs):
    (two_logs / "odd.csv").write_text(
        "Time [s],Probe A,CPU Package,Memory [MB]\n"
        + "".join(f"{k},70,{110 + k},8\n" for k in range(30))
    )
    run("import", "odd.csv", "--dry-run", "--write-columns", "columns.toml")
    content = tomllib.loads((two_logs / "columns.toml").read_text())["columns"]
    assert content["Time [s]"] == "t_s"
    assert content["Memory [MB]"] == "ignore"
    text = (two_logs / "columns.toml").read_text()
    corrected = text.replace(
        '"Probe A" = "ignore"', '"Probe A" = { channel = "room.air.temp_c", unit = "°F" }'
    )
    corrected = corrected.replace(
        '"CPU Package" = "ignore"', '"CPU Package" = "cpu.package.temp_c"'
    )
    (two_logs / "mine.toml").write_text(corrected)
    read = gelassen.read_log("odd.csv", columns="mine.toml")
    assert read.frame["room.air.temp_c"].iloc[0] == pytest.approx(21.111, abs=1e-3)
    assert "exists already" in run(
        "import", "odd.csv", "--dry-run", "--write-columns", "mine.toml", status=2
    )
    assert "say where it goes" in run("import", "odd.csv", "--columns", "mine.toml", status=2)


def stamped(name, start_s, header, values):
    rows = [
        f"2026-11-23T12:{(start_s + k) // 60:02d}:{(start_s + k) % 60:02d}Z,{v}"
        for k, v in enumerate(values)
    ]
    Path(name).write_text(header + "\n" + "\n".join(rows) + "\n", encoding="utf-8")


def test_wall_clocks_align_logs_and_a_differing_clock_is_named(two_logs):
    power = [20 + 75 * (100 <= k < 300) for k in range(400)]
    stamped("a.csv", 0, "Time,CPU Package [°C],CPU Power [W]", [f"{40 + p / 5},{p}" for p in power])
    late = [power[max(k - 37, 0)] * 1.1 for k in range(400)]  # a clock 37 s slow
    stamped("b.csv", 0, "Time,Wall Power [W],Room [°C]", [f"{p:.1f},21.5" for p in late])
    logs = [gelassen.read_log(name) for name in ("a.csv", "b.csv")]
    by_clock, (joined,) = merge_logs(logs)
    assert joined.how == "wall clock"
    assert joined.offset_s == 0
    assert any("its clock seems to differ from that of a by +37" in c for c in by_clock.cautions)
    _, (matched,) = merge_logs(logs, match=True)
    assert matched.low_s <= -37 <= matched.high_s
    text = run("import", "a.csv", "b.csv", "--dry-run", "--match")
    assert "by matched changes" in text
    assert "one run each" not in text


def test_states_keep_their_value_and_gaps_stay_empty():
    from gelassen.intake.merge import between_own_samples

    grid = np.arange(0, 12.0)
    times, values = np.array([1.0, 3.0, 4.0, 10.0]), np.array([0.0, 1.0, 1.0, 5.0])
    straight = between_own_samples(grid, times, values, stepwise=False, longest_s=3)
    assert straight[2] == 0.5
    assert np.isnan(straight[[0, 5, 9, 11]]).all()
    assert list(between_own_samples(grid, times, values, stepwise=True, longest_s=3)[1:4]) == [
        0,
        0,
        1,
    ]


def test_a_log_that_is_stored_already_and_a_full_disk_leave_nothing_behind(two_logs, monkeypatch):
    where = ("--study", "study", "--setup", "Brise 120", "--limit", 95, "--yes")
    run("import", SENSORS, *where)
    again = run("import", SENSORS, *where, status=2)
    assert "in this study already, as 001-brise-120-sensors" in again
    assert "named twice" in run("import", METER, METER, *where, status=2)

    def full(*_):
        raise OSError(28, "No space left on device")

    monkeypatch.setattr("gelassen.study.disk.archive.write_parquet", full)
    assert "nothing of it was kept" in run(
        "import", METER, *where, "--column", "Wall Power [W]=cpu.package.power_w", status=2
    )
    assert [folder.name for folder in (two_logs / "study" / "runs").iterdir()] == [
        "001-brise-120-sensors"
    ]


def test_what_steers_a_terminal_or_looks_like_a_formula_stays_text(two_logs):
    (two_logs / "bad.csv").write_text(
        'Time [s],CPU Package [°C],"=cmd()|\x1b[31m<b>"\n'
        + "".join(f"{k},40,1\n" for k in range(9))
        + "9,\x1b[2J,1\n"
    )
    text = run("import", "bad.csv", "--dry-run")
    assert "\x1b" not in text
    assert "=cmd()| [31m<b>" in text
    assert "rows with text in the number column" in text


def test_options_of_the_command_settle_what_is_open(two_logs):
    (two_logs / "open.csv").write_text(
        "Time;CPU Package [°C]\n"
        + "".join(f"03/04/2026 12:00:{k:02d};{40 + k},5\n" for k in range(40))
    )
    assert "--dates" in run("import", "open.csv", "--dry-run", status=2)
    told = run(
        "import", "open.csv", "--dry-run", "--dates", "mdy", "--zone", "Europe/Vienna",
        "--load-start", "10 s",
        "--hold", "20 s", "39 s", "--delimiter", "semicolon", "--decimal", "comma", "--encoding", "utf-8",
    )  # fmt: skip
    assert "from 2026-03-04 12:00:00+01:00" in told
    assert "hold: 20 to 39 s (told)" in told
    assert "lies outside the log" in run(
        "import", "open.csv", "--dry-run", "--dates", "mdy", "--load-start", "9 min", status=2
    )
    assert "does not lie in the load" in run(
        "import", "open.csv", "--dry-run", "--dates", "mdy", "--hold", "30", "20", status=2
    )


def test_a_load_that_paused_is_found_and_another_stretch_can_be_taken(two_logs):
    t = np.arange(0, 1200)
    power = np.where(((t > 60) & (t < 600)) | ((t > 800) & (t < 1000)), 95, 12)
    rows = "".join(f"{k},{40 + p / 5:.1f},{p}\n" for k, p in zip(t, power, strict=True))
    (two_logs / "twice.csv").write_text("Time [s],CPU Package [°C],CPU Power [W]\n" + rows)
    log = gelassen.read_log("twice.csv")
    assert [p.name for p in log.phases] == ["idle", "soak", "hold", "cooldown"]
    assert log.load_span_s() == pytest.approx((61, 599), abs=2)
    assert any("the load paused: it was also on from 801 to 999 s" in c for c in log.cautions)
    second = gelassen.read_log("twice.csv", options=LogOptions(load_start_s=800))
    assert second.load_span_s() == pytest.approx((800, 999), abs=2)
