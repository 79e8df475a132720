"""The book of the application, and how this installation is: help and settings."""
