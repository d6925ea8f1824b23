"""Log files that are on disk already, and access logs, become reports: what ``obitus read`` does."""
