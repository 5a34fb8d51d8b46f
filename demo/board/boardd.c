#define _POSIX_C_SOURCE 200809L
#include <arpa/inet.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/socket.h>
#include <unistd.h>

#include "wire.h"

static struct {
    char station[32];
    char height[32];
} rows[64];
static int used;

/* Answers one line: "put STATION HEIGHT" or "height STATION". */
static void answer(const char *line, char *reply)
{
    char station[32], height[32];
    if (sscanf(line, "put %31s %31s", station, height) == 2) {
        int row = 0;
        while (row < used && strcmp(rows[row].station, station) != 0)
            row++;
        if (row == (int)(sizeof rows / sizeof *rows)) {
            snprintf(reply, LINE, "full\n");
            return;
        }
        used += row == used;
        strcpy(rows[row].station, station);
        strcpy(rows[row].height, height);
        snprintf(reply, LINE, "done\n");
    } else if (sscanf(line, "height %31s", station) == 1) {
        snprintf(reply, LINE, "nothing known\n");
        for (int row = 0; row < used; row++)
            if (strcmp(rows[row].station, station) == 0)
                snprintf(reply, LINE, "%s\n", rows[row].height);
    } else {
        snprintf(reply, LINE, "what?\n");
    }
}

int main(int count, char **words)
{
    struct sockaddr_in place = {.sin_family = AF_INET};
    if (count != 3 || inet_pton(AF_INET, words[1], &place.sin_addr) != 1) {
        fprintf(stderr, "boardd ADDRESS PORT\n");
        return 2;
    }
    place.sin_port = htons((unsigned short)atoi(words[2]));
    int listening = socket(AF_INET, SOCK_STREAM, 0), yes = 1;
    setsockopt(listening, SOL_SOCKET, SO_REUSEADDR, &yes, sizeof yes);
    if (bind(listening, (struct sockaddr *)&place, sizeof place) < 0 || listen(listening, 16) < 0) {
        perror("boardd");
        return 1;
    }
    printf("the board is at %s, port %s\n", words[1], words[2]);
    fflush(stdout);
    for (;;) {
        int caller = accept(listening, NULL, NULL);
        char line[LINE], reply[LINE];
        ssize_t length = caller < 0 ? 0 : read(caller, line, sizeof line - 1);
        if (length > 0) {
            line[length] = '\0';
            answer(line, reply);
            if (write(caller, reply, strlen(reply)) < 0)
                perror("boardd");
        }
        if (caller >= 0)
            close(caller);
    }
}
