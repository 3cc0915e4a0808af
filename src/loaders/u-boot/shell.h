/* The loader's shell language: text to a list of commands.  Nothing is run here.
 *
 * The language is read a line at a time: what a line says is done before the next one is read, so
 * a mistake further down does not keep earlier lines from running.  A command that contains
 * variables is put together as text once they are known, and read a second time
 * (MOS_SHELL_AGAIN); signs that separate commands mean nothing then, quotes still do. */
#ifndef MOS_LOADERS_U_BOOT_SHELL_H
#define MOS_LOADERS_U_BOOT_SHELL_H

#include "base/buf.h"

/* Stands before and behind the name of a variable in a word; never part of a text. */
#define MOS_SHELL_MARK '\003'

struct mos_shell_word {
    const char *text; /* quotes and backslashes are gone; variables between marks */
    bool quoted;      /* some of it was in quotes: it may be empty */
};

enum mos_shell_kind {
    MOS_SHELL_COMMAND,
    MOS_SHELL_IF,
    MOS_SHELL_FOR,
    MOS_SHELL_WHILE,
    MOS_SHELL_UNTIL,
};

/* What stands between a command and the next one. */
enum mos_shell_join { MOS_SHELL_THEN, MOS_SHELL_AND, MOS_SHELL_OR };

struct mos_shell_node {
    enum mos_shell_kind kind;
    enum mos_shell_join join;
    struct mos_vec words; /* of struct mos_shell_word; for: its variable and what follows `in` */
    bool variables;       /* a command: some word has one */
    struct mos_shell_node *condition, *body;
    struct mos_shell_node *otherwise; /* of an if: else, or the next `if` of an elif */
    struct mos_shell_node *next;
};

enum mos_shell_flags {
    MOS_SHELL_AGAIN = 1, /* the second time: a command in words */
    MOS_SHELL_WHOLE = 2, /* line ends only separate: all of the text is one list */
};

enum mos_shell_result {
    MOS_SHELL_DONE,   /* there is no more */
    MOS_SHELL_LIST,   /* *out is what one line says; it may be NULL: nothing */
    MOS_SHELL_WRONG,  /* it breaks the language, or ends in the midst of a word; *offset is where */
    MOS_SHELL_UNEVEN, /* it ends inside of something that was begun */
};

/* Reads what stands at *offset of the text and advances it.  Depth is limited. */
enum mos_shell_result mos_shell_read(struct mos_arena *arena, const char *text, size_t length,
                                     size_t *offset, unsigned flags, struct mos_shell_node **out);

#endif
