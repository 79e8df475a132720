"""The day: shots taken and undone, instruments read."""
