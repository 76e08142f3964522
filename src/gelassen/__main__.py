"""`python -m gelassen`: the same as `gelassen`."""

from gelassen.cli import main

main()
