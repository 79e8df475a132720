"""Bodies and firmwares compared."""
