"""Record pages."""
