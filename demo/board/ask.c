#define _POSIX_C_SOURCE 200809L
#include <netdb.h>
#include <stdio.h>
#include <string.h>
#include <sys/socket.h>
#include <unistd.h>

#include "wire.h"

/* Sends one line to a board and gets its answer. */
static int ask(const char *address, const char *port, const char *line, char *reply)
{
    struct addrinfo wanted = {.ai_family = AF_UNSPEC, .ai_socktype = SOCK_STREAM}, *places = NULL;
    if (getaddrinfo(address, port, &wanted, &places) != 0)
        return 0;
    int board = -1;
    for (struct addrinfo *at = places; at && board < 0; at = at->ai_next) {
        board = socket(at->ai_family, at->ai_socktype, at->ai_protocol);
        if (board >= 0 && connect(board, at->ai_addr, at->ai_addrlen) < 0) {
            close(board);
            board = -1;
        }
    }
    freeaddrinfo(places);
    if (board < 0)
        return 0;
    ssize_t length = write(board, line, strlen(line));
    if (length > 0)
        length = read(board, reply, LINE - 1);
    close(board);
    reply[length > 0 ? length : 0] = '\0';
    return length > 0;
}

/* The first height in a file of readings. */
static int first_height(const char *path, char *height)
{
    FILE *file = fopen(path, "r");
    int found = file && fscanf(file, "%*[^\n] %*[^\n] hour,height %*[^,],%31s", height) == 1;
    if (file)
        fclose(file);
    return found;
}

int main(int count, char **words)
{
    char line[LINE] = "", reply[LINE], height[32];
    if (count < 4) {
        fprintf(stderr, "ask ADDRESS PORT WORDS...\n");
        return 2;
    }
    if (count == 6 && strcmp(words[3], "read") == 0) {
        if (!first_height(words[5], height)) {
            fprintf(stderr, "%s: no reading in it\n", words[5]);
            return 1;
        }
        snprintf(line, sizeof line, "put %s %s", words[4], height);
    } else {
        for (int i = 3; i < count; i++)
            snprintf(line + strlen(line), sizeof line - strlen(line), i > 3 ? " %s" : "%s", words[i]);
    }
    if (!ask(words[1], words[2], line, reply)) {
        fprintf(stderr, "no board answers at %s, port %s\n", words[1], words[2]);
        return 1;
    }
    fputs(reply, stdout);
    return 0;
}
