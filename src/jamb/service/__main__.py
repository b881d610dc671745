"""`python -m jamb.service`: the same as `jamb-service`."""

from jamb.service.operate import run

if __name__ == "__main__":
    run()
