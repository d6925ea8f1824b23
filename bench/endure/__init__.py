"""What the service endures: everything that strangers and broken senders do, at once, while one honest sender goes on.

``python -m bench.endure [SECONDS]`` starts a service of its own and measures an honest sender alone; then while all the
others are at a second service on the same machine, which shows what it costs to share the processors with them; then
while they are at the sender's own service. It kills and restarts the service, fills its disk, and prints one table.
Whatever was acknowledged has to be there once.
"""

from __future__ import annotations

from bench.endure.running import Measurements, endure

__all__ = ["Measurements", "endure"]
