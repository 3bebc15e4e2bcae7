"""The engine: steps, what they need and give, keys, results, and working a sheet out. It knows nothing of cases or plates."""
