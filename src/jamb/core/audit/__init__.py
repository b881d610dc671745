"""What is wrong with registrations: small pure rules from a client's picture to findings."""
