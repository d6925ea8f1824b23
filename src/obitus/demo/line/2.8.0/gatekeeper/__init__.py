"""The gate of the Skerry Line: boarding passes and manifests, made by jobs."""
