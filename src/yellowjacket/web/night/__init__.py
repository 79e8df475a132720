"""Night: long exposures planned ahead."""
