"""Speed and memory as ratios to named general-purpose libraries and tools, measured in one run."""
