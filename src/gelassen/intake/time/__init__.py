"""When samples were taken: stamps, clocks that jump, and the time line of a log."""
