"""What people look at, made from a history alone, so that a saved one serves as well as a live one."""
