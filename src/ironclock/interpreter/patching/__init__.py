"""Functions of the standard library, replaced in place while a rig is entered."""
