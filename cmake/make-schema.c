/* Prints the JSON Schema of definitions (run by the build, installed beside the program), or with
 * `keys` the tables of docs/definition.md. */
#include "mosaicum/mosaicum.h"
#include "platform/platform.h"

#include <stdio.h>
#include <string.h>

int main(int argc, char **argv) {
    struct mosaicum_options o = {.host = mos_platform_host(), .workspace = "."};
    mosaicum *m = mosaicum_new(&o);
    const char *text;
    bool keys = argc > 1 && strcmp(argv[1], "keys") == 0;
    int status = !m     ? MOSAICUM_SYSTEM
                 : keys ? (int)mosaicum_reference(m, &text)
                        : (int)mosaicum_schema(m, &text);
    if (!status && fputs(text, stdout) < 0)
        status = MOSAICUM_SYSTEM;
    mosaicum_free(m);
    return status;
}
