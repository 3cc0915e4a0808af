/* What the commands beside a board have in common: a board and a port on the command line, and
 * words of ours beside what goes on. */
#include "cli/cli.h"

#include <string.h>

void beside_note(void *self, const char *text, bool bad) {
    const struct cli *cli = self;
    progress_clear();
    fprintf(to_err, "%s%s%s\n", style(cli, bad ? STYLE_WARNING : STYLE_NOTE), one_line(text),
            style(cli, STYLE_END));
}

/* A port looks like one: everything else is a board. */
static bool is_port(const char *word) {
    return strchr(word, '/') || strncmp(word, "tcp:", 4) == 0;
}

bool beside_words(struct cli *cli, const char **name, const char **port) {
    int i = 0;
    if (i < cli->argument_count && !is_port(cli->arguments[i]))
        *name = cli->arguments[i++];
    if (i < cli->argument_count && is_port(cli->arguments[i]))
        *port = cli->arguments[i++];
    if (i < cli->argument_count)
        fprintf(to_err, "mosaicum: %s is no port: a port is a path, or tcp:HOST:PORT\n",
                one_line(cli->arguments[i]));
    return i == cli->argument_count;
}
