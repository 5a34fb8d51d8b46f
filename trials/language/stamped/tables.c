int stations(void) { return 7; }
