"""Template filters and tags, one library per page or kind of value."""
