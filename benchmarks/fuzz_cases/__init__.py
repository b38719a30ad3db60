"""Seeds and readers of the fuzzer."""
