"""Capture inside the reporting process. It never raises into the app, and never runs the app's code to show a value."""
