"""Reads every sensor once before a run, to find sensors that do not answer."""

from collections.abc import Sequence
from dataclasses import replace

from gelassen.bench.sensors.reader import Reader
from gelassen.bench.sensors.sensor import Sensor

_PATIENCE_S = 2.0  # a device that is asleep may need a second


def try_once(sensors: Sequence[Sensor]) -> None:
    """Note the result of a first reading in each sensor's description.

    A sensor that fails is kept: it may answer later. One that this user may not read is not, nor is
    an alarm that the chip does not have.
    """
    reader = Reader(sensors, patience_s=_PATIENCE_S)
    reader.read()
    reader.close()
    for sensor in sensors:
        name = sensor.info.name
        if name not in reader.reasons:
            continue
        if isinstance(reader.errors.get(name), PermissionError):
            sensor.info = replace(sensor.info, readable=False, problem=sensor.if_denied)
        else:
            alarm = name.endswith(".alarm_flag")
            sensor.info = replace(sensor.info, readable=not alarm, problem=reader.reasons[name])
