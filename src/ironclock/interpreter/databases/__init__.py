"""The clocks of database servers, which follow the rig's: PostgreSQL, MariaDB and MySQL."""
