"""`python -m jamb.demo`: the same as `jamb-demo`."""

from jamb.demo.run import run

if __name__ == "__main__":
    run()
