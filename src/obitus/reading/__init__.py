"""Reports from log files and access logs: the work of ``obitus read``."""
