"""Measuring releases: readings at scale, streams with known truth, and commits with planted faults."""
