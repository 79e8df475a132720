"""What is done with the records: one module per thing the application does."""
