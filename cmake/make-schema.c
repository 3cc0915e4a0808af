/* Prints the JSON Schema of definitions: run by the build, installed beside the program. */
#include "mosaicum/mosaicum.h"
#include "platform/platform.h"

#include <stdio.h>

int main(void) {
    struct mosaicum_options o = {.host = mos_platform_host(), .workspace = "."};
    mosaicum *m = mosaicum_new(&o);
    const char *text;
    int status = m ? (int)mosaicum_schema(m, &text) : MOSAICUM_SYSTEM;
    if (!status && fputs(text, stdout) < 0)
        status = MOSAICUM_SYSTEM;
    mosaicum_free(m);
    return status;
}
