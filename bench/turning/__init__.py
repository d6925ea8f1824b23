"""The turning point on applications of others: driven with real requests, with faults planted in what their database is asked."""
