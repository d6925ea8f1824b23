"""The page on the pier, as its kiosk runs it."""
