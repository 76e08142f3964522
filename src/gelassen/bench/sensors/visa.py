"""Instruments that speak SCPI over TCP, a serial line or USB, through PyVISA.

PyVISA's pure-Python backend needs no vendor library; both come with the extra "instruments".
"""

import contextlib
import re
import threading
import time
from dataclasses import dataclass
from typing import Any

from gelassen.bench.sensors.sensor import Sensor, sensor_of
from gelassen.bench.sensors.textvalue import value_in
from gelassen.core.recording.units import Conversion

_AGAIN_S, _LONGEST_S = (
    3.0,
    60.0,
)  # a failed connection is tried again after this time, then ever later
_OPENING = "open"
_OVER_RANGE = 9.9e37  # SCPI-99, 7.2.1.4 and 7.2.1.5: infinity is 9.9E37, not a number 9.91E37
_INSTALL = 'instruments need an extra package: pip install "gelassen[instruments]"'


@dataclass(frozen=True, slots=True)
class _Failed:
    text: str
    wait_s: float
    again_s: float


class Instrument:
    """One instrument; the connection is made when first needed, and again after a failure."""

    def __init__(self, resource: str, backend: str = "@py") -> None:
        self.resource = resource
        self._backend = backend
        self._session: Any = None
        self._one_at_a_time = threading.Lock()
        self._failed: dict[str, _Failed] = {}

    def ask(self, query: str, *, timeout_s: float = 2.0) -> str:
        """Return the answer to a query; OSError if there is none."""
        with self._one_at_a_time:
            # An instrument that is off, or an unknown query, must not cost a timeout at every sample.
            for key in (_OPENING, query):
                before = self._failed.get(key)
                if before is not None and time.monotonic() < before.again_s:
                    raise OSError(before.text)
            doing = _OPENING
            try:
                if self._session is None:
                    self._session = self._open()
                doing = query
                self._session.timeout = 1000 * timeout_s
                answer = str(self._session.query(query))
            except Exception as error:
                # PyVISA and the libraries below it raise many kinds; each means "no answer". A late
                # answer must not count as the next query's, so the connection is made again.
                self.close()
                before = self._failed.get(doing)
                wait_s = min(2 * before.wait_s, _LONGEST_S) if before else _AGAIN_S
                text = f"{self.resource}: {_short(error)}"
                self._failed[doing] = _Failed(text, wait_s, time.monotonic() + wait_s)
                raise OSError(text) from None
            self._failed.pop(_OPENING, None)
            self._failed.pop(query, None)
            return answer

    def _open(self) -> Any:
        try:
            import pyvisa
        except ImportError:
            raise OSError(_INSTALL) from None
        session: Any = pyvisa.ResourceManager(self._backend).open_resource(self.resource)
        session.read_termination = session.write_termination = "\n"
        return session

    def close(self) -> None:
        """Close the connection, if there is one."""
        session, self._session = self._session, None
        if session is not None:
            with contextlib.suppress(Exception):  # it is broken, or it would not be closed
                session.close()


def instrument_sensor(
    name: str,
    instrument: Instrument,
    query: str,
    pattern: re.Pattern[str],
    convert: Conversion,
    *,
    timeout_s: float = 2.0,
) -> Sensor:
    """Return a sensor that asks an instrument; all of one instrument share a thread."""

    def read() -> float:
        value = value_in(instrument.ask(query, timeout_s=timeout_s), pattern)
        if abs(value) >= _OVER_RANGE:
            raise ValueError("the instrument says: over range")
        return convert(value)

    source = f"{instrument.resource} {query}"
    sensor = sensor_of(name, f"answer to {query}", source, read, device=instrument.resource)
    sensor.apart = True
    return sensor


def _short(error: Exception) -> str:
    text = str(error).strip().splitlines()
    return text[0][:120] if text else type(error).__name__
