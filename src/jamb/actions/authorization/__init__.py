"""What people allow clients to do for them: asked, allowed, carried by tokens, ended."""
