"""Alerts, as far as they are computed: what rules mean, what is more than usual, when a message may go out, what it says."""
