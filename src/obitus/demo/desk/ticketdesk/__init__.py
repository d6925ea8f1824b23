"""The ticket desk on the pier: sells a ticket about every second, as long as the demo runs."""
