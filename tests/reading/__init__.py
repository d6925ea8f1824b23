"""Tests of what reads files and sends what it finds."""
