"""The border: what code of the rig waits for outside the simulation, such as a socket, a file or a database."""
