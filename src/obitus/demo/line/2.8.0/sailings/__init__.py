"""Sailings of the Skerry Line: timetable, fares, boardings."""
