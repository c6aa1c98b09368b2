"""A Django service on PostgreSQL: bookings, charges and letters, with a worker of its own."""
