"""Kills the processes of a recording at random moments, and looks at what is left.

``python tests/killing.py 1000`` makes that many kills and prints a table: tried, failed to open, samples
lost, loads left running, settings left changed. The suite makes a few.
"""

import contextlib
import os
import random
import shutil
import signal
import subprocess
import sys
import tempfile
import time
from collections import Counter
from pathlib import Path

import psutil

from gelassen.bench.actuators import left_behind, put_back_note
from gelassen.study import read_run
from trees import LIMIT, device, settable_tree

RECORDS = """
import sys
from pathlib import Path
from gelassen.bench import MachineBench
from gelassen.conduct import RunPlan, plan_phases, record_run
bench = MachineBench(sysfs=Path(sys.argv[1]))
plan = RunPlan(
    phases=plan_phases(0.3, 0.6, 0, 0.3), interval_s=0.05, load="integer", workers=1,
    settings={"cpu.package.power_limit_w": 20.0},
)
print("begins", flush=True)
record_run(bench, plan, Path(sys.argv[2]), label="x")
print("ended", flush=True)
"""
WHOM = ("recorder", "recorder", "guardian", "worker", "recorder and guardian")
_SOON_S = 10.0


def kill_once(root, rng, state):
    """Record, kill, look. Return who was killed and what was wrong afterwards."""
    tree = settable_tree(root / "tree")
    files = {"temp1_input": "45000", "temp1_label": "Package id 0"}
    device(tree, 0, "coretemp", "platform/coretemp.0", files)
    runs = root / "runs"
    whom = rng.choice(WHOM)
    environment = {**os.environ, "GELASSEN_STATE": str(state)}
    child = subprocess.Popen(
        [sys.executable, "-P", "-c", RECORDS, str(tree), str(runs)],
        env=environment, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True,
    )  # fmt: skip
    child.stdout.readline()
    time.sleep(rng.uniform(0.0, 3.0))
    below = _below(child.pid)
    targets = {
        "recorder": [child.pid],
        "guardian": _named(below, "guardian"),
        "worker": _named(below, "loads.worker"),
        "recorder and guardian": [child.pid, *_named(below, "guardian")],
    }[whom]
    for pid in targets:
        with contextlib.suppress(ProcessLookupError):
            os.kill(pid, signal.SIGKILL)
    child.wait()
    child.stdout.close()
    return whom, _looked(tree, runs, below)


def _below(pid):
    try:
        return psutil.Process(pid).children(recursive=True)
    except psutil.Error:
        return []


def _named(processes, word):
    found = []
    for one in processes:
        try:
            if word in " ".join(one.cmdline()):
                found.append(one.pid)
        except psutil.Error:
            continue
    return found


def _looked(tree, runs, below):
    """Return what is wrong: nothing may stay that the kill left."""
    wrong = []
    deadline_s = time.monotonic() + _SOON_S
    while time.monotonic() < deadline_s:
        alive = [one for one in below if one.is_running() and one.status() != psutil.STATUS_ZOMBIE]
        for path, _ in list(left_behind()):  # said at the next start, and put back on request
            put_back_note(path)
        changed = (tree / LIMIT).read_text().strip() != "65000000"
        if not alive and not changed:
            break
        time.sleep(0.05)
    else:
        wrong += ["left running"] * bool(alive) + ["left changed"] * changed
    for folder in runs.iterdir() if runs.is_dir() else ():
        if not any(folder.iterdir()):
            continue
        try:
            times = read_run(folder).frame.index.to_numpy()
            text = (folder / "samples.csv").read_text() if (folder / "samples.csv").exists() else ""
            if text.count("\n") - 1 > len(times):
                wrong.append("lost")
        except Exception as error:
            wrong.append(f"not opened: {type(error).__name__} {error}")
    return wrong


def attack(kills, seed, root, state):
    """Kill this many times; return how many kills of each kind there were, and what was wrong."""
    rng, tried, failures = random.Random(seed), Counter(), Counter()
    for number in range(kills):
        place = root / str(number)
        whom, wrong = kill_once(place, rng, state)
        tried[whom] += 1
        for one in wrong:
            failures[whom, one] += 1
        shutil.rmtree(place)
    return tried, failures


def main():
    """Attack by hand."""
    kills = int(sys.argv[1])
    root = Path(tempfile.mkdtemp(prefix="kills-"))
    state = root / "state"
    state.mkdir(mode=0o700)
    os.environ["GELASSEN_STATE"] = str(state)
    tried, failures = attack(kills, int(sys.argv[2]) if len(sys.argv) > 2 else 1, root, state)
    print(f"{'killed':24} tried  not opened  lost  left running  left changed")
    for whom, count in tried.items():
        counts = [
            sum(n for (who, what), n in failures.items() if who == whom and what.startswith(word))
            for word in ("not opened", "lost", "left running", "left changed")
        ]
        print(f"{whom:24} {count:5}  {counts[0]:10}  {counts[1]:4}  {counts[2]:12}  {counts[3]:12}")
    for key, count in failures.items():
        print(count, *key)
    shutil.rmtree(root)
    sys.exit(bool(failures))


if __name__ == "__main__":
    main()
