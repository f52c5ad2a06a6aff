"""`python -m gallant`."""

from gallant.cli.main import main

main()
