"""The simulated camera at work."""
