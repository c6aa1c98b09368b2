"""Where the simulation meets CPython."""
