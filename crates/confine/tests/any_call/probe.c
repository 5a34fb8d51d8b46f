/* Makes every system call there is with a path, a folder, or both in the places where calls take them, each in a process of its own,
 * and prints the result and a digest of the memory that it was given. Each call has a path of its own: NUMBER-SHAPE below the folder.
 *     probe FOLDER FIRST LAST
 */
#define _GNU_SOURCE
#include <errno.h>
#include <fcntl.h>
#include <signal.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>
#include <sys/time.h>
#include <sys/wait.h>
#include <unistd.h>

enum { SHAPES = 10, SIZE = 4096 };

struct result {
    int done;
    long value;
    int error;
    uint64_t digest;
};

/* At addresses whose lower halves are zero: calls that take a number there get a harmless one. */
static char *at(uint64_t address) {
    void *wanted = (void *)(address << 32);
    char *got = mmap(wanted, 16 * SIZE, PROT_READ | PROT_WRITE, MAP_PRIVATE | MAP_ANONYMOUS | MAP_FIXED_NOREPLACE, -1, 0);
    if (got != wanted) exit(2);
    return got;
}

static uint64_t digest_of(const char *bytes) {
    uint64_t sum = 14695981039346656037u;
    for (int i = 0; i < SIZE; i++) sum = (sum ^ (unsigned char)bytes[i]) * 1099511628211u;
    return sum;
}

int main(int count, char **words) {
    if (count != 4) return 2;
    const char *folder = words[1];
    long first = atol(words[2]), last = atol(words[3]);
    char *path = at(0x20), *relative = at(0x30), *buffer = at(0x40), *name = at(0x50), *how = at(0x60);
    strcpy(name, "user.tide");
    int open_folder = open(folder, O_RDONLY | O_DIRECTORY);
    struct result *results = mmap(0, sizeof(struct result) * SHAPES, PROT_READ | PROT_WRITE, MAP_SHARED | MAP_ANONYMOUS, -1, 0);
    if (open_folder < 0 || results == MAP_FAILED) return 2;
    /* A number that is none of theirs means the first descriptor for many calls: nothing of the machine may be there. */
    int nobody[2];
    if (pipe(nobody) < 0 || dup2(nobody[0], 0) < 0) return 2;
    close(nobody[0]);
    close(nobody[1]);
    for (long number = first; number <= last; number++) {
        memset(results, 0, sizeof(struct result) * SHAPES);
        pid_t children[SHAPES];
        for (int shape = 0; shape < SHAPES; shape++) {
            children[shape] = fork();
            if (children[shape] != 0) continue;
            setpgid(0, 0);
            pid_t self = getpid();
            struct itimerval limit = {{0, 0}, {0, 60000}};
            signal(SIGALRM, SIG_DFL);
            setitimer(ITIMER_REAL, &limit, 0);
            sprintf(path, "%s/%ld-%d", folder, number, shape);
            sprintf(relative, "%ld-%d", number, shape);
            long P = (long)path, R = (long)relative, B = (long)buffer, N = (long)name, H = (long)how, D = open_folder;
            long places[SHAPES][6] = {
                {P, 0, 0, 0, 0, 0},        {P, B, SIZE, 0, 0, 0},     {P, N, B, SIZE, 0, 0}, {D, R, 0, 0, 0, 0},
                {D, R, B, SIZE, 0, 0},     {D, R, 0, 0xfff, B, 0},    {D, R, H, 24, 0, 0},   {D, R, B, B + 8, 0, 0},
                {D, P, B, 0, 0, 0},        {0, P, B, SIZE, 0, 0},
            };
            long *a = places[shape];
            errno = 0;
            long value = syscall(number, a[0], a[1], a[2], a[3], a[4], a[5]);
            int error = errno;
            if (getpid() != self) _exit(0);
            /* What was opened is read. */
            if (value >= 3 && value < 1000 && read((int)value, buffer + SIZE / 2, 64) > 0) error = 0;
            if (value >= 3 && value < 1000) value = 3;
            results[shape].value = value;
            results[shape].error = value < 0 ? error : 0;
            results[shape].digest = digest_of(buffer);
            results[shape].done = 1;
            _exit(0);
        }
        for (int shape = 0; shape < SHAPES; shape++) {
            int status = 0;
            while (waitpid(children[shape], &status, __WALL) < 0 && errno == EINTR) {}
            kill(-children[shape], SIGKILL);
        }
        for (int shape = 0; shape < SHAPES; shape++) {
            struct result *r = &results[shape];
            if (r->done) printf("%ld-%d %ld %d %llx\n", number, shape, r->value, r->error, (unsigned long long)r->digest);
            else printf("%ld-%d ended\n", number, shape);
        }
    }
    return 0;
}
