"""Other people's frameworks, servers, job runners and odd ends, each driven for real."""
