"""The ferry line: two small real apps over two weeks; what they reported through the real client is recorded, and replayed."""
