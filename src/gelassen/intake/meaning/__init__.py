"""The meaning of columns: names, units, and the channel that each becomes."""
