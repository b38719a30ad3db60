"""What a trial compares: replays, alternatives, results."""
