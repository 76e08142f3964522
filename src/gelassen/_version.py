"""The version, for whoever writes it into a file."""

__version__ = "0.1.0"
