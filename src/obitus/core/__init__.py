"""Pure computation: no input or output, no web, no SQL. Time, ids and randomness are always passed in."""
