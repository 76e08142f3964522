"""What columns mean: names, units, and the channel that each becomes."""
