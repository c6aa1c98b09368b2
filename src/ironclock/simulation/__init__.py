"""The pure simulation: events, jobs, queues, delivery, faults. It patches nothing and does no input or output."""
