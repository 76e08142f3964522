"""Fans: curves, speed over duty, cooling over speed, and where a curve settles."""
