"""Where a framework hands over requests and jobs."""
