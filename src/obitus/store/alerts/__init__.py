"""Alerts in the store: rules and channels, firings, messages, and the counts for rules over windows."""
