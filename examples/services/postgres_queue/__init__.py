"""Jobs in a table of PostgreSQL."""
