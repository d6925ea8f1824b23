"""Alerts at work: what happens and what is counted becomes firings, firings become messages, messages are delivered."""
