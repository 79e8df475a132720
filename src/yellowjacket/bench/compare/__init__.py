"""Bodies and firmwares side by side, and curves that others measured."""
