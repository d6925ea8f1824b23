"""Rights: keys of apps, sessions and tokens of people, signing in and out."""
