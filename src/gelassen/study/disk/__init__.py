"""What was recorded, on disk: runs, their samples, notes, and what is kept of their analysis."""
