#ifdef __cplusplus
extern "C"
#endif
int depth_of(const char *code);
