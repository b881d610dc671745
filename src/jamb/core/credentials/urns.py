"""How proofs by a signed assertion are named (RFC 7523 sections 2.1 and 2.2). Whoever sends one imports no more."""

JWT_BEARER = "urn:ietf:params:oauth:grant-type:jwt-bearer"
CLIENT_ASSERTION = "urn:ietf:params:oauth:client-assertion-type:jwt-bearer"
