"""What will be done: the plan of a run, its climb in power, the order of the runs."""
