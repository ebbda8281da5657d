"""What we know about sound: values in, values out, on numpy and scipy alone."""
