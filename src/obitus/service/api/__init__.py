"""The API for people and commands: routes, the models of answers, and problems."""
