#ifdef __cplusplus
extern "C"
#endif
double water_over(const char *code, double hour);
