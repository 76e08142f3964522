"""Instruments that speak SCPI over TCP, a serial line or USB, through PyVISA.

PyVISA's pure-Python backend needs no vendor library; both come with the extra "instruments".
"""

import contextlib
import re
import time
from typing import Any

from gelassen.bench.sensors.sensor import Sensor, sensor_of
from gelassen.bench.sensors.textvalue import value_in
from gelassen.core.units import Conversion

_AGAIN_S = 3.0  # an instrument that is off is called this often
_OPENING = "open"
_OVER_RANGE = 9.9e37  # SCPI-99, 7.2.1.4 and 7.2.1.5: infinity is 9.9E37, not a number 9.91E37
_INSTALL = 'instruments need an extra package: pip install "gelassen[instruments]"'


class Instrument:
    """One instrument; the connection is made when first needed, and again after a failure."""

    def __init__(self, resource: str, backend: str = "@py", *, timeout_s: float = 2.0) -> None:
        self.resource = resource
        self._backend = backend
        self._timeout_s = timeout_s
        self._session: Any = None
        self._wait_until_s: dict[str, float] = {}
        self._failures: dict[str, str] = {}

    def ask(self, query: str) -> str:
        """Return the answer to a query; OSError if there is none."""
        now_s = time.monotonic()
        # Neither an instrument that is off nor a query it does not know may use up every second.
        for key in (_OPENING, query):
            if now_s < self._wait_until_s.get(key, 0.0):
                raise OSError(self._failures[key])
        doing = _OPENING
        try:
            if self._session is None:
                self._session = self._open()
            doing = query
            return str(self._session.query(query))
        except Exception as error:
            # PyVISA and the libraries below it raise many kinds; each means "no answer". A late
            # answer must not be taken for the next query's: the connection is made anew.
            self.close()
            self._wait_until_s[doing] = time.monotonic() + _AGAIN_S
            self._failures[doing] = f"{self.resource}: {_short(error)}"
            raise OSError(self._failures[doing]) from None

    def _open(self) -> Any:
        try:
            import pyvisa
        except ImportError:
            raise OSError(_INSTALL) from None
        session: Any = pyvisa.ResourceManager(self._backend).open_resource(self.resource)
        session.timeout = 1000 * self._timeout_s
        session.read_termination = session.write_termination = "\n"
        return session

    def close(self) -> None:
        """Close the connection, if there is one."""
        session, self._session = self._session, None
        if session is not None:
            with contextlib.suppress(Exception):  # it is broken, or it would not be closed
                session.close()


def instrument_sensor(
    name: str, instrument: Instrument, query: str, pattern: re.Pattern[str], convert: Conversion
) -> Sensor:
    """Return a sensor that asks an instrument; all of one instrument share a thread."""

    def read() -> float:
        value = value_in(instrument.ask(query), pattern)
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
