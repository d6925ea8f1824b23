"""What went wrong with no exception: ``finding`` says what is new or more than usual, ``failing`` makes failures of what is collected."""
