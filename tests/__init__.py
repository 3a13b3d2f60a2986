import os

for _threads in ("OMP_NUM_THREADS", "OPENBLAS_NUM_THREADS"):  # as the command line does, before numpy is loaded
    os.environ.setdefault(_threads, "1")
