"""Jobs and threads that can be suspended in simulated time."""
