#include <stdio.h>
#include <string.h>

/* Prints a C header with the code and name of each station whose file is given. */
int main(int count, char **paths)
{
    puts("/* Made from the stations' files; edit those. */");
    puts("static const struct { const char *code, *name; } station_codes[] = {");
    for (int i = 1; i < count; i++) {
        char name[64] = "";
        FILE *file = fopen(paths[i], "r");
        if (!file || fscanf(file, "name,latitude %63[^,]", name) != 1) {
            fprintf(stderr, "%s: no name in it\n", paths[i]);
            return 1;
        }
        fclose(file);
        const char *slash = strrchr(paths[i], '/');
        const char *code = slash ? slash + 1 : paths[i];
        printf("    {\"%.*s\", \"%s\"},\n", (int)strcspn(code, "."), code, name);
    }
    puts("};");
    return 0;
}
