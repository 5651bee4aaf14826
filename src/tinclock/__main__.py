"""`python -m tinclock`."""

from tinclock.cli.entry import run

if __name__ == "__main__":
    run()
