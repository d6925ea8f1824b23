"""Speed, as ratios against floors taken in the same run."""
