"""Whatever touches a machine, real or simulated, behind one interface."""

from gelassen.bench.interface import Actuator, Bench, ChannelInfo, Load
from gelassen.bench.machine import MachineBench

__all__ = ["Actuator", "Bench", "ChannelInfo", "Load", "MachineBench"]
