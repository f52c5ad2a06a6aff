"""One module for each use. The command line, the Python API and a timer all call the same functions here."""
