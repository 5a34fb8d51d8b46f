#ifdef __cplusplus
extern "C" {
#endif
int stepped(int x);
int pair(int x);
#ifdef __cplusplus
}
#endif
