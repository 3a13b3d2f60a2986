"""Files in and out: decode, resample, the content-addressed store, what is known of a recording."""
