"""The probe: search a story for what breaks a law, and shrink what is found. Also the control of one run by a plan."""
