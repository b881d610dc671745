"""Commands for whoever runs the service."""
