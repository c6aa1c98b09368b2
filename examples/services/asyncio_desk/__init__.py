"""Workers in asyncio."""
