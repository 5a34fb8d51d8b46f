#include <stdio.h>
#ifdef THREADS
#include <pthread.h>

static void *relax(void *part) { return part; }
#endif

int main(void) {
#ifdef THREADS
    pthread_t threads[THREADS];
    for (int i = 0; i < THREADS; i++) pthread_create(&threads[i], 0, relax, 0);
    for (int i = 0; i < THREADS; i++) pthread_join(threads[i], 0);
    printf("%d threads\n", THREADS);
#elif defined CHECKED
    puts("checked");
#else
    puts("serial");
#endif
    return 0;
}
