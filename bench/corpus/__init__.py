"""A labelled corpus: real libraries and small apps of the ferry line, with real faults planted one at a time."""
