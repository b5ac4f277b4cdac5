"""From a requirement to exact numbers: one file or folder per method, each registered in ``methods``."""
