"""The worker's configuration."""

import configparser
from dataclasses import dataclass

FILE = "[gate]\nname = eastholm-2\n\n[printer]\nmodel = P40\n"


@dataclass
class Settings:
    gate: str
    printer: str


def load(text):
    parser = configparser.ConfigParser()
    parser.read_string(text)
    return Settings(gate=parser.get("gate", "name"), printer=parser.get("printer", "address"))
