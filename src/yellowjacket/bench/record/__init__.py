"""The record: limits as measured and as decided, signed, with their evidence."""
