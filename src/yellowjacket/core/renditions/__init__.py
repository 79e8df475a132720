"""Pictures that something else rendered: read, laid on their frames, and what their maker did to them."""
