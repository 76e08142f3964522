"""Any other program as a sensor. The last line that it prints holds the value."""

import contextlib
import os
import re
import signal
import subprocess
from collections.abc import Sequence

from gelassen.bench.sensors.sensor import Sensor, sensor_of
from gelassen.bench.sensors.textvalue import value_in
from gelassen.core.recording.units import Conversion


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
        text=True,
        errors="replace",
        start_new_session=True,  # so that processes it starts end with it
    )
    try:
        out, err = program.communicate(timeout=timeout_s)
    except subprocess.TimeoutExpired:
        with contextlib.suppress(OSError, AttributeError):
            os.killpg(program.pid, signal.SIGKILL)
        program.kill()
        program.communicate()
        raise ValueError(f"no answer from {command[0]} within {timeout_s:g} s") from None
    if program.returncode != 0:
        said = (err or out).strip().splitlines()
        raise ValueError(
            f"{command[0]} ended with status {program.returncode}"
            + (f": {said[-1][:80]}" if said else "")
        )
    lines = [line for line in out.splitlines() if line.strip()]
    if not lines:
        raise ValueError(f"{command[0]} printed nothing")
    return lines[-1]
