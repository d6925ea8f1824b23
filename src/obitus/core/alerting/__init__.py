"""The computation of alerts: conditions of rules, what is usual, when a message may go out, its text."""
