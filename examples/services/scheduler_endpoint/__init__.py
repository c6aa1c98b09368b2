"""An endpoint that a cloud scheduler calls."""
