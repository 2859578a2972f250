"""The compiled kernels: where they are kept, and their compiling."""
