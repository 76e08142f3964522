"""Fans: what the runs show of them, and the curves that follow from it."""
