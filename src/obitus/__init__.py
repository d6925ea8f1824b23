"""Obitus: the reporting client's public names.

import obitus
obitus.watch()        # settings from OBITUS_URL, OBITUS_KEY, OBITUS_RELEASE
"""

__version__ = "0.1.0"
