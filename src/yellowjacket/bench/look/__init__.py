"""Looking and judging: development, lanes, grades, pairs and blind rounds."""
