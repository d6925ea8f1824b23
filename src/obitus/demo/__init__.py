"""The ferry line: two small real apps, played over two weeks and two releases with an injected clock."""
