"""Where libraries hand over requests, jobs and steps. Each module is loaded once the library it watches has been."""
