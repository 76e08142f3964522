"""Whatever touches a machine, real or simulated, behind one interface."""

from typing import TYPE_CHECKING

from gelassen._lazy import loader

if TYPE_CHECKING:
    from gelassen.bench.interface import Actuator, Bench, ChannelInfo, Load
    from gelassen.bench.machine import MachineBench

__all__ = ["Actuator", "Bench", "ChannelInfo", "Load", "MachineBench"]

__getattr__ = loader(
    __name__,
    {
        "interface": ("Actuator", "Bench", "ChannelInfo", "Load"),
        "machine": ("MachineBench",),
    },
)
