"""Spoils files in every way a disk, an editor or an attacker might, and calls what reads them.

``python tests/fuzzing.py 100000`` makes that many calls and prints what failed. The suite makes 300.
"""

import contextlib
import io
import random
import shutil
import sys
import tempfile
import time
import traceback
from collections import Counter
from contextlib import redirect_stderr, redirect_stdout
from pathlib import Path

import psutil

from gelassen import open_study, read_log, summarise_run
from gelassen.bench.actuators import left_behind, put_back_note
from gelassen.bench.actuators.undo_notes import spoilt_notes
from gelassen.conduct.operator.run_table import read_run_table
from gelassen.core import GelassenError
from gelassen.intake.meaning.columns import read_column_file
from gelassen.show.run_text import run_text
from gelassen.study import read_run
from small_study import small_study

SLOW_S, MOST_BYTES = 20.0, 1 << 30
WORDS = [
    b"", b"\0", b"\xff\xfe", b"\x1b[2J", b"-1", b"1e999", b"NaN", b"null", b"[]", b"{}", b'""', b"9" * 400,
    b"[" * 5000, b"," * 2000, b"\n" * 500, b"\r", b"a" * 200_000, b"true", b"1970-01-01T00:00:00", b"\xc3",
    b'"', b"\\u0000", b"inf", b"-0", b"2" * 20, b"t_s", b"../../x", b"\xef\xbb\xbf", b";", b"=", b"'''",
]  # fmt: skip


def spoilt(data, rng):
    """Return data with one to four spoilt places."""
    data = bytearray(data)
    for _ in range(rng.choice((1, 1, 1, 2, 4))):
        at = rng.randrange(len(data) + 1)
        end = min(len(data), at + rng.choice((0, 1, 1, 4, 40, 4000)))
        how = rng.randrange(6)
        if how == 0:
            data[at:end] = rng.choice(WORDS)
        elif how == 1:
            data[at:end] = bytes(rng.randrange(256) for _ in range(rng.randrange(8)))
        elif how == 2:
            del data[at:]
        elif how == 3:  # one value becomes another
            parts = bytes(data).split(b" ")
            parts[rng.randrange(len(parts))] = rng.choice(WORDS)
            data = bytearray(b" ".join(parts))
        elif how == 4:
            lines = bytes(data).split(b"\n")
            lines.insert(rng.randrange(len(lines)), rng.choice(lines))
            data = bytearray(b"\n".join(lines))
        else:
            data[at:at] = data[at:end]
    return bytes(data)


def _shown(run):
    recording = read_run(run)
    if not recording.frame.empty:
        run_text(summarise_run(recording), recording)


def _compared(study):
    open_study(study).compare()


class Files:
    """A study with every kind of file, and what reads each."""

    def __init__(self, folder, state):
        self.study = small_study(folder / "study")
        open_study(self.study).compare()  # now there are kept analyses
        run = self.study / "runs/001-tower"
        frame = read_run(run).frame
        notes = '{"at_s": 5.0, "readings": {"room.air.temp_c": 21.5}, "text": "seen"}\n'
        (run / "notes.jsonl").write_text(notes * 3)
        other = self.study / "runs/002-tower"
        frame.to_csv(other / "samples.csv")
        (other / "samples.parquet").unlink()
        journal = '{"phase": "idle", "at_s": 0.0}\n{"event": "seen", "at_s": 3.0}\n'
        (other / "journal.jsonl").write_text(journal * 3)
        log = folder / "log.csv"
        frame.rename(columns=lambda name: name.replace(".", " ")).to_csv(log, sep=";", decimal=",")
        named = folder / "columns.toml"
        named.write_text('format = 1\n[columns]\n"Temp 7 (°C)" = "cpu.package.temp_c"\n')
        sheet = folder / "sheet.csv"
        sheet.write_text("Cooler;Tmax;Result;Price\na;71,5;stable;45\nb;80 F;crash;-\n" * 3)
        note = state / "settings-1-1.json"
        note.write_text(
            '{"process": {"pid": 1, "began": "0", "boot": "x"}, "entries": [{"sys_root": "/nowhere", '
            '"setting": "x", "path": "online", "text": "1", "device": "", "if_not": null}]}'
        )
        note.chmod(0o600)
        compare, show = (lambda: _compared(self.study)), (lambda: _shown(run))
        self.readers = [
            (self.study / "study.toml", compare), (self.study / ".analysed.jsonl", compare),
            (run / "run.json", show), (run / "samples.parquet", show), (run / "notes.jsonl", show),
            (other / "samples.csv", lambda: _shown(other)),
            (other / "journal.jsonl", lambda: _shown(other)),
            (log, lambda: summarise_run(read_log(log))),
            (named, lambda: read_column_file(named)),
            (sheet, lambda: read_run_table(sheet)),
            (note, lambda: (spoilt_notes(), list(left_behind()), _put_back(note))),
        ]  # fmt: skip
        self.content = {path: path.read_bytes() for path, _ in self.readers}
        self.kept = (self.study / ".analysed.jsonl").read_bytes()

    def call(self, rng):
        """Spoil one file and read it; return its name and what went wrong, if anything did."""
        path, read = rng.choice(self.readers)
        data = spoilt(self.content[path], rng)
        path.write_bytes(data)
        began_s = time.process_time()  # not the wall clock: the machine may be busy
        try:
            with redirect_stdout(io.StringIO()), redirect_stderr(io.StringIO()):
                read()
            found = ""
        except GelassenError as error:
            found = "" if str(error).strip() else "an error without words"
        except Exception:
            found = traceback.format_exc(limit=-3)
        if (took_s := time.process_time() - began_s) > SLOW_S:
            found += f"took {took_s:.0f} s"
        path.write_bytes(self.content[path])
        (self.study / ".analysed.jsonl").write_bytes(self.kept)
        return path.name, found, data


def _put_back(note):
    with contextlib.suppress(ValueError):  # said by the command
        put_back_note(note)


def attack(calls, seed, folder, state):
    """Make this many calls; return how many there were of each file, and the failures."""
    rng = random.Random(seed)
    files = Files(folder, state)
    tried, failures = Counter(), []
    for _ in range(calls):
        name, found, data = files.call(rng)
        tried[name] += 1
        if found:
            failures.append((name, found, data))
    if (used := psutil.Process().memory_info().rss) > MOST_BYTES:
        failures.append(("memory", f"{used >> 20} MiB in use", b""))
    return tried, failures


def main():
    """Attack by hand."""
    import os

    calls, seed = int(sys.argv[1]), int(sys.argv[2]) if len(sys.argv) > 2 else 1
    folder = Path(tempfile.mkdtemp(prefix="fuzz-"))
    state = folder / "state"
    state.mkdir(mode=0o700)
    os.environ["GELASSEN_STATE"] = str(state)
    tried, failures = attack(calls, seed, folder, state)
    failed = Counter(name for name, _, _ in failures)
    for name, count in tried.items():
        print(f"{name:20} {count:7} tried {failed[name]:5} failed")
    for what, count in Counter((name, found) for name, found, _ in failures).most_common(20):
        print(count, *what)
    shutil.rmtree(folder)
    sys.exit(bool(failures))


if __name__ == "__main__":
    main()
