"""Programs that tests record: not tests themselves."""
