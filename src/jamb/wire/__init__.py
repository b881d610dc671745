"""Shapes that cross the network, by noun, shared by the service and the client library."""
