"""A suite of tests as a whole: its tests as stories for the search, its fault coverage, its payload contracts."""
