"""Speed and memory against their goals, as ratios within one run."""
