"""Instruments of libraries: requests, jobs and steps. Each module is loaded after the library that it watches."""
