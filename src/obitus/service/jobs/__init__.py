"""What reads events, each job from its own position (``runner``): ``telling``, ``watching``, ``regrouping``; and housekeeping."""
