"""Alerts, as they are kept: rules and channels, firings, the messages about them, and what is counted for rules over windows."""
