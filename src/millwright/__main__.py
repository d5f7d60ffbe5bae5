"""`python -m millwright`: the command-line tool where its script is not on the path."""

from millwright.cli.app import main

if __name__ == "__main__":
    main()
