from mivlo import compute_in_one_thread

compute_in_one_thread()
