"""Eight small services as teams write them. They know nothing of Iron Clock; their tests do."""
