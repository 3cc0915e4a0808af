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
/* One option as help, pages and completion tell it; NULL behind the last. */
struct option_row {
    const char *name;
    char letter;              /* 0: none */
    const char *commands;     /* that take it, "build rehearse"; "": all of them */
    const char *help, *value; /* value NULL: it is a flag */
    size_t at;                /* of its member in struct cli: a bool or a const char * */
    bool many;                /* it may stand there several times: a const char **, NULL behind */
};
const struct option_row *option_at(size_t index);
/* Is it of this command (c NULL: of every one)? */
bool option_is_of(const struct option_row *row, const struct command *c);
/* How many a command has of its own. */
size_t options_of(const struct command *c);
/* Their lines in a help text; c NULL: of every command. */
void options_print(const struct cli *cli, FILE *to, const struct command *c);
void options_print_row(const struct cli *cli, FILE *to, const char *left, const char *right);

#endif
