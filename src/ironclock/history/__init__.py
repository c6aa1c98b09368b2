"""What happened, in order: records, the history, and what is read from it."""
