"""Logs that other programs wrote."""

from typing import TYPE_CHECKING

from gelassen._lazy import loader

if TYPE_CHECKING:
    from gelassen.intake.log import read_log, understand_log
    from gelassen.intake.store import store_import

__all__ = ["read_log", "store_import", "understand_log"]

__getattr__ = loader(__name__, {"log": ("read_log", "understand_log"), "store": ("store_import",)})
