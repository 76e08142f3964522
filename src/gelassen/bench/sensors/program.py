"""Any other program as a sensor. The last line that it prints holds the value."""

import contextlib
import os
import re
import signal
import subprocess
import threading
from collections.abc import Sequence
from typing import IO

from gelassen.bench.sensors.sensor import Sensor, sensor_of
from gelassen.bench.sensors.textvalue import value_in
from gelassen.core.recording.units import Conversion

_KEPT_BYTES = 1 << 16


def program_sensor(
    name: str,
    command: Sequence[str],
    pattern: re.Pattern[str],
    convert: Conversion,
    *,
    timeout_s: float,
) -> Sensor:
    """Return a sensor that runs a program at each reading, in a thread of its own."""
    words = list(command)

    def read() -> float:
        return convert(value_in(_last_line(words, timeout_s), pattern))

    shown = " ".join(words)
    sensor = sensor_of(name, f"what {words[0]} prints", shown, read, device=f"program {name}")
    sensor.apart = True
    return sensor


def _last_line(command: list[str], timeout_s: float) -> str:
    """Run the program; OSError or ValueError if it fails, prints nothing, or takes too long."""
    program = subprocess.Popen(
        command,
        stdin=subprocess.DEVNULL,
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        start_new_session=True,  # so that processes it starts end with it
    )
    late = threading.Timer(timeout_s, _end, (program,))
    late.start()
    said: list[str] = []
    complaints = threading.Thread(target=lambda: said.append(_tail_of(program.stderr)))
    complaints.start()
    out = _tail_of(program.stdout)
    complaints.join()
    program.wait()
    in_time = not late.finished.is_set()
    late.cancel()
    if not in_time:
        raise ValueError(f"no answer from {command[0]} within {timeout_s:g} s")
    if program.returncode != 0:
        words = (said[0] or out).strip().splitlines()
        raise ValueError(
            f"{command[0]} ended with status {program.returncode}"
            + (f": {words[-1][:80]}" if words else "")
        )
    lines = [line for line in out.splitlines() if line.strip()]
    if not lines:
        raise ValueError(f"{command[0]} printed nothing")
    return lines[-1]


def _tail_of(pipe: IO[bytes] | None) -> str:
    """Return the end of what comes out of a pipe, however much that is."""
    tail = b""
    if pipe is not None:
        with pipe as stream:
            while piece := os.read(stream.fileno(), _KEPT_BYTES):
                tail = (tail + piece)[-_KEPT_BYTES:]
    return tail.decode("utf-8", "replace")


def _end(program: "subprocess.Popen[bytes]") -> None:
    """End the program and what it started."""
    with contextlib.suppress(OSError, AttributeError):
        os.killpg(program.pid, signal.SIGKILL)
    program.kill()
