"""Where one picture lies on another."""
