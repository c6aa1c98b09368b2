"""An asyncio service over a key-value server: notices and refunds for crossings that are cancelled."""
