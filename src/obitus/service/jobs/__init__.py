"""Jobs that read events, each from its own position (``runner``): ``telling``, ``watching``, ``regrouping``; and housekeeping."""
