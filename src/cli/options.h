/* What may stand on the command line besides the command and its arguments. */
#ifndef MOS_CLI_OPTIONS_H
#define MOS_CLI_OPTIONS_H

#include "cli/cli.h"

/* Reads the command line into *cli.  Returns its words, the command first (NULL-terminated, never
 * NULL but when memory is out); `why` says what is wrong with an option, or "".  Free with
 * options_free. */
const char **options_parse(struct cli *cli, int argc, const char **argv, char *why, size_t room);
/* Frees the words, and the texts that *cli points to. */
void options_free(const char **words);
/* An option that a command does nothing with is a mistake, not nothing: *wrong is its name then.
 * others: " --out --strict", what the command takes. */
bool options_fit(const struct command *c, const char **wrong, char *others, size_t room);
/* The help: rows of new, or all others. */
void options_print(FILE *to, bool of_new);
void options_print_row(FILE *to, const char *left, const char *right);

#endif
