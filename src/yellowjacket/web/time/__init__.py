"""Time: long exposures, hot pixels, dark current, LENR."""
