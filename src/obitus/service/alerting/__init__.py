"""Alerting: events and counts become firings, firings become messages, messages are delivered."""
