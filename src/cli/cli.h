/* The command line: thin, and the only place that prints. */
#ifndef MOS_CLI_CLI_H
#define MOS_CLI_CLI_H

#include "mosaicum/mosaicum.h"

#include <stdio.h>

struct cli {
    const char *workspace;                            /* -w, or NULL */
    const char *out;                                  /* --out, or NULL */
    const char *output;                               /* -o, or NULL */
    const char *picture;                              /* show layout: --picture, or NULL */
    const char *expand_to;                            /* --expand-to, or NULL */
    const char *bindings;                             /* tree: --bindings, or NULL */
    const char *loader, *medium, *keys, *flash, *set; /* rehearse: --loader, --as …; or NULL */
    const char *source, *arch, *start, *compiler, *link_map,
        *modules; /* config: --source …; or NULL */
    bool only_show, of_loader;
    bool json, quiet, verbose, no_run, strict, no_cache, accept, trail, files, planned, faults,
        verify, sha256, keep_labels, help, version;
    const char **includes, **defines;    /* tree: NULL-terminated, or NULL */
    const char **fragments, **vars;      /* config: the same */
    const char **yes, **also, **regions; /* write: the same */
    const char *board, *unit, *ledger;   /* write: --for, --unit, --ledger; or NULL */
    const char *way, *serial, *address, *board_address, *boards; /* write: through a board; NULL */
    const char *stored, *log, *junit, *bench; /* listen: --stored, --log …; or NULL */
    const char *by, *to_address, *speed;      /* send: --by, --to, --speed; or NULL */
    const char *user, *password_file;         /* learn: --user, --password-file; or NULL */
    const char *at, *tftp_port, *http_port;   /* serve: --at, --tftp-port …; or NULL */
    bool steps_done, first_start, judge, cycle, acceptance, running;
    bool changed, all_regions, grow, unmount, wait, written, true_size;
    bool aside; /* what is printed is for another program: findings go to standard error */
    const char *when_color;      /* --color, or NULL */
    struct mosaicum_draft draft; /* options of new */
    bool color, unicode;         /* of standard output */
    bool terminal;               /* listen: somebody sits at it */
    int width;                   /* columns of the terminal, 0: not one */
    const char **arguments;      /* after the command's name, NULL-terminated */
    int argument_count;
};

struct command {
    const char *name;
    const char *usage;    /* its arguments */
    const char *about;    /* one line of the help; NULL: it is for programs, and not told */
    const char *details;  /* a paragraph; words of a definition stand in ` ` */
    const char *examples; /* a line each */
    int least, most;      /* number of arguments; most -1: any */
    int (*run)(struct cli *cli);
};

extern const struct command command_new, command_list, command_check, command_build, command_show,
    command_compare, command_pin, command_inspect, command_take, command_amend, command_renew,
    command_rehearse, command_tree, command_config, command_explain, command_demo, command_help,
    command_complete, command_devices, command_write, command_listen, command_send, command_serve,
    command_learn;

/* beside.c.  A word of ours beside what goes on; self: struct cli. */
void beside_note(void *self, const char *text, bool bad);
/* A board's name and a port, each of which may be left out; false: it was said what is wrong. */
bool beside_words(struct cli *cli, const char **name, const char **port);

/* help.c: every command; NULL behind the last, and where there is none of that name */
const struct command *command_at(size_t index);
const struct command *command_named(const char *name);
const char *command_near(const char *name); /* one that may have been meant, or NULL */
/* What all commands share, and all about one. */
void help_all(const struct cli *cli, FILE *to);
void help_command(const struct cli *cli, const struct command *c, FILE *to);

/* workspace.c: a run with the options of the command line; complains and returns NULL */
mosaicum *cli_open(struct cli *cli, bool needs_workspace);
/* The nearest folder above (or here) with mosaicum.yaml; NULL: there is none. */
const char *cli_find_workspace(void);

/* out.c: standard output and error, without anything that a terminal would obey */
extern FILE *to_out, *to_err;
bool out_open(bool unicode); /* unicode: the terminal is UTF-8 */
bool out_close(void);        /* false: standard output could not be written */
/* What was to be printed cannot be made: says why, and out_close() fails. */
void out_give_up(const char *why);
void out_json(bool json);                         /* what follows is JSON: signs become escapes */
bool out_bytes(const void *bytes, size_t length); /* as they are: what the user asked to have */
void out_progress(const char *text);              /* the one line that is drawn over itself */
/* A text without line ends, so that it cannot pose as more than one line; short-lived. */
const char *one_line(const char *text);

/* print.c */
void print_findings(const struct cli *cli, const mosaicum *m, FILE *to);
/* What is not known is no good news: "; 3 things could not be checked (…)", or nothing. */
void print_unproved(const struct cli *cli, const mosaicum *m, FILE *to);
void print_summary(const struct cli *cli, const mosaicum *m, FILE *to);
/* The tables and texts of a job; nothing with --json. */
void print_tables(const struct cli *cli, mosaicum *m, FILE *to);
/* The same; nothing after an error. */
void print_report(const struct cli *cli, mosaicum *m, FILE *to);
void print_markdown(const struct cli *cli, const char *text, FILE *to);
/* Errors and findings, or the whole JSON document; returns the exit status. */
int print_result(const struct cli *cli, mosaicum *m, const char *command, int status);
/* Columns that bytes of UTF-8 take on a terminal (each character counts as one). */
size_t columns_of(const char *text, size_t length);
/* A text whose lines break at blanks where the terminal ends, and a line's end.  column: where it
 * begins; indent: where its further lines do.  Not a terminal: one line. */
void print_words(const struct cli *cli, size_t column, size_t indent, const char *text, FILE *to);

/* write.c: a job that writes devices, with its screen and its questions; returns the status */
int write_devices(struct cli *cli, mosaicum *m, const char *what, const char **devices,
                  size_t count);

/* table.c: a table of rows, without its title */
void print_table(const struct cli *cli, mosaicum *m, const struct mosaicum_table *t, FILE *to);

/* picture.c: the layouts of a job as a picture (.svg or .png); returns the exit status */
int draw_layout(const struct cli *cli, const mosaicum *m, const char *path);
/* The tables of a tree as boxes: its buses, pins and interrupts. */
int draw_tree(const struct cli *cli, const mosaicum *m, const char *path);

/* json.c */
void print_json(mosaicum *m, const char *command, int status, FILE *to);

/* progress.c */
void progress(void *self, const char *what, uint64_t done, uint64_t total);
void progress_clear(void);

/* colours; "" without colour */
enum style {
    STYLE_ERROR,
    STYLE_WARNING,
    STYLE_NOTE,
    STYLE_STRONG,
    STYLE_DIM,
    STYLE_GOOD,
    STYLE_END
};
const char *style(const struct cli *cli, enum style s);

/* table-top.c: the file about one's own table, named or in the folder for settings; NULL: nobody
 * has one. */
const char *cli_bench_file(const struct cli *cli);
/* The first signal from now on ends a wait for a board, the next one all of it. */
void cli_stops_waiting(void);

#endif
