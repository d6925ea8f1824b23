"""What reads events, each job from its own position: ``telling`` passes them on to the consoles that listen."""
