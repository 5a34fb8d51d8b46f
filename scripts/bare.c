// What the machine itself needs for a part of a build: limits for scripts/figures. Prints seconds.
//
//   bare start THREADS COUNT    starts COUNT shells that each make a small file in this folder
//   bare check THREADS < PATHS  asks for the metadata of each file, folders opened where several names lie in them
#define _GNU_SOURCE
#include <fcntl.h>
#include <pthread.h>
#include <spawn.h>
#include <stdatomic.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <sys/wait.h>
#include <time.h>
#include <unistd.h>

enum { PART = 2048 };

static atomic_int next;
static int count;
static char **paths;
static int *folders;  // How many bytes of each path are its folder.

static void *start(void *unused) {
    (void)unused;
    char *environment[] = {"PATH=/usr/bin:/bin", NULL};
    for (int i; (i = atomic_fetch_add(&next, 1)) < count;) {
        char number[16], file[32];
        snprintf(number, sizeof number, "%d", i);
        snprintf(file, sizeof file, "%d.txt", i);
        char *words[] = {"sh", "-c", "echo \"$1 p\" > \"$2\"", "sh", number, file, NULL};
        pid_t process;
        int status;
        if (posix_spawnp(&process, "sh", NULL, NULL, words, environment)) exit(1);
        waitpid(process, &status, 0);
        if (status) exit(1);
    }
    return NULL;
}

static int same_folder(int a, int b) {
    return folders[a] && folders[a] == folders[b] && !memcmp(paths[a], paths[b], folders[a]);
}

static void *check(void *unused) {
    (void)unused;
    for (int from; (from = atomic_fetch_add(&next, PART)) < count;) {
        int folder = -1;
        for (int i = from; i < count && i < from + PART; i++) {
            struct stat found;
            if (i == from || !same_folder(i - 1, i)) {
                if (folder >= 0) close(folder);
                folder = -1;
                // For a lone file opening its folder does not pay.
                if (i + 1 < count && same_folder(i, i + 1)) {
                    char name[4096];
                    snprintf(name, sizeof name, "%.*s", folders[i], paths[i]);
                    folder = open(name, O_PATH | O_DIRECTORY | O_CLOEXEC);
                }
            }
            const char *name = folder < 0 ? paths[i] : paths[i] + folders[i] + 1;
            if (fstatat(folder < 0 ? AT_FDCWD : folder, name, &found, 0)) exit(1);
        }
        if (folder >= 0) close(folder);
    }
    return NULL;
}

static void read_paths(void) {
    char line[4096];
    int sandbox = 0;
    while (fgets(line, sizeof line, stdin)) {
        line[strcspn(line, "\n")] = 0;
        if (count == sandbox) {
            sandbox = sandbox ? sandbox * 2 : 1024;
            folders = realloc(folders, sandbox * sizeof *folders);
            paths = realloc(paths, sandbox * sizeof *paths);
        }
        char *slash = strrchr(line, '/');
        folders[count] = slash ? slash - line : 0;
        paths[count++] = strdup(line);
    }
}

int main(int argc, char **argv) {
    if (argc < 3) return 2;
    int starts = !strcmp(argv[1], "start"), threads = atoi(argv[2]);
    if (starts) count = argc > 3 ? atoi(argv[3]) : 0;
    else read_paths();
    struct timespec before, after;
    clock_gettime(CLOCK_MONOTONIC, &before);
    pthread_t running[64];
    if (threads > 64) threads = 64;
    for (int i = 0; i < threads; i++) pthread_create(&running[i], NULL, starts ? start : check, NULL);
    for (int i = 0; i < threads; i++) pthread_join(running[i], NULL);
    clock_gettime(CLOCK_MONOTONIC, &after);
    printf("%.4f\n", (after.tv_sec - before.tv_sec) + (after.tv_nsec - before.tv_nsec) / 1e9);
    return 0;
}
