int gauge(int x);
