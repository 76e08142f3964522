"""Loads that keep the real machine busy."""
