"""Logs that other programs wrote."""

from gelassen.intake.log import read_log
from gelassen.intake.store import store_import

__all__ = ["read_log", "store_import"]
