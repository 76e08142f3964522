"""What watches a run while it goes on: the guard, gates that end phases, faults of sensors."""
