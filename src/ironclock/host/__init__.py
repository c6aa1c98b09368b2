"""Where the simulation meets the interpreter: its clock in place, and jobs that stand still while others run."""
