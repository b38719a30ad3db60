"""`python -m askless`."""

from askless.cli.main import run

if __name__ == "__main__":
    run()
