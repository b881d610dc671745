"""HTTP itself: what comes in and how it is answered, before and after a route."""
