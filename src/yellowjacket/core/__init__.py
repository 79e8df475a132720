"""The trade itself: arithmetic, reading, measuring, limits. No web framework in here."""
