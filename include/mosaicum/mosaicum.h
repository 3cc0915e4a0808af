/* mosaicum/mosaicum.h - the public interface of the core library.
 *
 * One `mosaicum` is one run: it is given a host and options, does one job, and holds what came of
 * it (findings, a report, an error) until it is freed.  Everything it returns is borrowed from it.
 * Not thread-safe; several runs may go on in several threads.
 */
#ifndef MOSAICUM_MOSAICUM_H
#define MOSAICUM_MOSAICUM_H

#include "mosaicum/host.h"

typedef struct mosaicum mosaicum;

/* The exit status of a job. */
enum mosaicum_status {
    MOSAICUM_DONE = 0,     /* warnings and notes allowed */
    MOSAICUM_FINDINGS = 1, /* at least one finding is an error */
    MOSAICUM_USAGE = 2,    /* wrong usage, or a file that cannot be parsed at all */
    MOSAICUM_SYSTEM = 3,   /* I/O, memory, a helper program */
    MOSAICUM_REFUSED = 4,  /* refused for safety */
};

struct mosaicum_options {
    const struct mos_host *host; /* kept by reference */
    const char *workspace;       /* folder that holds mosaicum.yaml */
    const char *cache_folder;    /* NULL: keep nothing between runs */
    bool no_run;                 /* start no outside program */
    bool strict;                 /* warnings count as errors */
    bool verify; /* build: outputs that look untouched are read and hashed all the same */
    bool sha256; /* build: every image gets its plain SHA-256 into the ledger */
    /* Called now and then during long work, with bytes; may be NULL. */
    void (*progress)(void *self, const char *what, uint64_t done, uint64_t total);
    void *progress_self;
    const char *expand_to; /* what a compressed image may grow to, as in "4 GiB"; NULL: 64 GiB */
    /* Where bytes go whose file is named "-"; false: they could not be written.  May be NULL. */
    bool (*stream)(void *self, const void *bytes, size_t length);
    void *stream_self;
};

/* NULL: no memory.  Free with mosaicum_free (NULL allowed). */
mosaicum *mosaicum_new(const struct mosaicum_options *options);
void mosaicum_free(mosaicum *m);
const char *mosaicum_version(void);

/* ---- jobs ---- */

/* A selector is BOARD or BOARD+VARIANT+…, with wildcards.  None (count 0) means those that the
 * workspace states as `usual`, else all. */

/* Every rule on the selected boards; without selectors on every combination of variants. */
enum mosaicum_status mosaicum_check(mosaicum *m, const char *const *selectors, size_t count);
/* The same; then every finding that can be becomes a waiver in waivers/BOARD.yaml. */
enum mosaicum_status mosaicum_accept(mosaicum *m, const char *const *selectors, size_t count);
/* check, then images and ledger under OUT/SELECTOR; out NULL: "out" in the workspace.  Without
 * selectors the plain boards. */
enum mosaicum_status mosaicum_build(mosaicum *m, const char *const *selectors, size_t count,
                                    const char *out);
/* Part of a resolved definition, one of mosaicum_show_part_at; selector
 * NULL where there is one board.  trail: with the places that set and replaced each value. */
enum mosaicum_status mosaicum_show(mosaicum *m, const char *selector, const char *part, bool trail);
/* The names of the parts, in order; NULL behind the last. */
const char *mosaicum_show_part_at(size_t index);
/* What is known of a board that begins; NULL: not known.  Values as definitions write them. */
struct mosaicum_draft {
    const char *name;
    const char *cpu, *ram_start, *ram_size, *console, *baud, *medium, *size;
    const char *kernel, *tree, *root; /* files; those outside of the workspace are copied into it */
    const char *from;                 /* an image to read regions and file systems from */
};
/* A commented definition boards/NAME.yaml, and mosaicum.yaml where there is none.  Never writes
 * over anything (MOSAICUM_REFUSED). */
enum mosaicum_status mosaicum_new_board(mosaicum *m, const struct mosaicum_draft *draft);
/* Boards and their variants, and what is known of each. */
enum mosaicum_status mosaicum_list(mosaicum *m);
/* What was written last to each unit, or device where none was named, by the workspace's record. */
enum mosaicum_status mosaicum_list_written(mosaicum *m);
/* Two selectors, two images or two ledgers side by side: only what differs; MOSAICUM_FINDINGS when
 * something does. */
enum mosaicum_status mosaicum_compare(mosaicum *m, const char *a, const char *b);
/* Writes mosaicum.pins: the hash of every piece that is not followed. */
enum mosaicum_status mosaicum_pin(mosaicum *m, const char *const *selectors, size_t count);
/* The JSON Schema of definitions, made from the table of keys. */
enum mosaicum_status mosaicum_schema(mosaicum *m, const char **text);
/* Every key of definitions, as Markdown tables, made from the same table. */
enum mosaicum_status mosaicum_reference(mosaicum *m, const char **text);
/* The same of one word: a key wherever it may stand, "boot.via" only there, or all keys of what has
 * that name.  *text is NULL where there is none; *near is a key that may have been meant, or NULL.
 */
enum mosaicum_status mosaicum_reference_of(mosaicum *m, const char *word, const char **text,
                                           const char **near);
/* Of some words that which may have been meant; NULL: none is near. */
const char *mosaicum_near(const char *word, const char *const *words, size_t count);
/* What is in a disk image or volume, which may be compressed; with the files of its volumes. */
enum mosaicum_status mosaicum_inspect(mosaicum *m, const char *image, bool files);
/* Copies REGION (as it is), or REGION:PATH (a file, or a folder as an archive) out of an image.
 * to NULL: named after it, in the current folder.  Never writes over anything. */
enum mosaicum_status mosaicum_take(mosaicum *m, const char *image, const char *what,
                                   const char *to);
/* A new image from one that is there: changes are REGION=FILE (a whole region), REGION:PATH=FILE,
 * REGION:~PATH, or REGION:NAME=VALUE in an environment.  Never writes over anything. */
enum mosaicum_status mosaicum_amend(mosaicum *m, const char *image, const char *const *changes,
                                    size_t count, const char *to);
/* Two builds of one kernel release, each a folder, an archive or a package with lib/modules/RELEASE
 * (and boot/): a new folder with what differs and a script that a board runs.  MOSAICUM_REFUSED:
 * releases differ, or the folder is there. */
enum mosaicum_status mosaicum_renew(mosaicum *m, const char *old, const char *now, const char *to);
/* A rehearsal of the boot, on the bytes of images. */
struct mosaicum_rehearsal {
    const char *what;   /* a selector whose images are built, or an image */
    bool planned;       /* a selector: on the media that a build would write, not what was built */
    const char *loader; /* the loader's binary, for the variables compiled into it; or NULL */
    const char *medium; /* an image: what the loader calls it, "mmc 0" if NULL */
    const char *cpu;    /* an image: "arm64"; NULL: as the kernel is */
    const char *ram_start, *ram; /* an image: as definitions write them; NULL: not known */
    const char *tree;            /* the tree that the loader itself has; or NULL */
    const char *out;             /* a selector: where it was built; NULL: "out" in the workspace */
    const char *flash; /* an image: the serial flash beside it, as the loader's "sf 0"; or NULL */
    const char *keys;  /* a tree with the keys that parcels must be signed with; or NULL */
    const char *set;   /* "NAME=VALUE": a variable that the system has set before; or NULL */
    bool faults;       /* also with one thing at a time broken */
    bool console;      /* also what the loader prints */
};
/* MOSAICUM_FINDINGS: it does not boot, or a fallback does not hold. */
enum mosaicum_status mosaicum_rehearse(mosaicum *m, const struct mosaicum_rehearsal *request);
/* A job on device trees.  TREE is a file (source or blob), or a selector: the tree of a board as it
 * is built.  What is written never goes over anything. */
struct mosaicum_tree {
    const char *verb;         /* compile SOURCE…, text TREE, apply BASE OVERLAY…,
                                 compare A B, claims TREE, find TREE WORD, draw TREE,
                                 bindings TREE… */
    const char *const *files; /* what follows it */
    size_t count;
    const char *const *includes; /* folders with files that sources include; NULL-terminated */
    const char *const *defines;  /* macros, NAME or NAME=TEXT; NULL-terminated */
    const char *output;          /* compile, text, apply: the file; of several: the folder */
    bool keep_labels;            /* compile, apply: overlays can name them later */
    const char *bindings;        /* bindings: the folder of the kernel's schema files */
};
/* MOSAICUM_FINDINGS: a source is wrong, an overlay does not fit, or the trees differ. */
enum mosaicum_status mosaicum_tree(mosaicum *m, const struct mosaicum_tree *request);
/* A job on configurations.  What is written never goes over anything, but for a fragment of a
 * board, which `ask` changes. */
struct mosaicum_config {
    /* resolve [SELECTOR], merge, why SYMBOL [SELECTOR], search WORD [SELECTOR], compare FILE FILE,
     * minimal [SELECTOR], cost [SELECTOR], ask SYMBOL=VALUE… SELECTOR */
    const char *verb;
    const char *const *words; /* what follows it */
    size_t count;
    const char
        *source;      /* folder of the tree with the Kconfig files; NULL: of the selector's board */
    const char *arch; /* as in ARCH=; or NULL */
    const char *start; /* the configuration to start from: a file, or one of the tree's; or NULL */
    const char *compiler;         /* the command; NULL: gcc */
    const char *const *fragments; /* files on top of it, in order; ask: the fragment's name;
                                     NULL-terminated, or NULL */
    const char *const *vars;      /* NAME=VALUE for the tree's macros; NULL-terminated, or NULL */
    const char *output;           /* resolve, merge, minimal: the file */
    bool only_show;               /* ask: changes nothing */
    const char *link_map;         /* cost: the map that the linker wrote of the kernel; or NULL */
    const char *modules;          /* cost: the folder of its modules; or NULL */
    bool loader;                  /* the board's loader is meant, not its kernel */
};
/* MOSAICUM_FINDINGS: a request of a fragment does not come true (resolve writes the file all the
 * same), a file has lines that cannot be read, or two configurations differ. */
enum mosaicum_status mosaicum_config(mosaicum *m, const struct mosaicum_config *request);
/* The storage devices of this computer (host->computer), what is on them and which may be written:
 * one table. */
enum mosaicum_status mosaicum_devices(mosaicum *m);
/* Tells of each that appears (here) or is gone, with the cells of that table, until told() returns
 * false or the host's wait() does. */
struct mosaicum_cell;
enum mosaicum_status mosaicum_devices_wait(mosaicum *m,
                                           bool (*told)(void *self, bool here,
                                                        const struct mosaicum_cell *cells),
                                           void *self);
/* An image onto storage devices. */
struct mosaicum_write {
    const char *what;           /* an image, or the selector of a board that is built; "-": the
                                   image on standard input; NULL: a pattern over all of one device,
                                   to learn how large it really is */
    const char *ledger;         /* the image's; NULL: the one beside it */
    const char *const *devices; /* their paths */
    size_t device_count;
    const char *const *yes;     /* tokens that consent to a device each; NULL-terminated, or NULL */
    const char *const *also;    /* … and to one that is not pluggable, or too large; the same */
    const char *const *regions; /* only these; NULL-terminated, NULL: all */
    const char *board;          /* what the ledger must be of; NULL: whatever it is */
    const char *unit;           /* what it is written for, for the record; or NULL */
    const char *out;            /* a selector: where it was built; NULL: "out" in the workspace */
    bool changed;               /* only what differs */
    bool grow;                  /* regions that grow take the rest of a larger device */
    bool all_regions;           /* those of owner factory and device, too */
    bool unmount;               /* what a desktop mounted of it is released */
    bool only_show;             /* nothing is written */
    /* Shows findings and tables so far, which are forgotten then; NULL: they stay for the end. */
    void (*show)(void *self, mosaicum *m);
    /* Asks for consent to a device that no token of `yes` fits: true only where its token was
     * typed.  NULL: nobody can be asked. */
    bool (*ask)(void *self, const char *device, const char *token);
    void *ask_self;
};
/* MOSAICUM_REFUSED: a rule forbids a device, or nobody consented; the others are written all the
 * same.  MOSAICUM_SYSTEM: one failed; MOSAICUM_FINDINGS: what was read back is something else. */
enum mosaicum_status mosaicum_write(mosaicum *m, const struct mosaicum_write *request);
/* A board's soldered storage, through the board itself, in one of the ways of its definition. */
struct mosaicum_program {
    const char *selector; /* of a board that is built */
    const char *way;      /* the name of the way; NULL: there is one only */
    const char *serial;   /* the serial line to the board, a device or tcp:HOST:PORT; or NULL */
    const char *address;  /* of this computer, that the board asks for files; or NULL */
    const char *board_address; /* that the board gets meanwhile, "192.0.2.17/24"; or NULL */
    const char *const *yes;    /* tokens that consent; NULL-terminated, or NULL */
    const char *unit;          /* which board it is, for the record; or NULL */
    const char *out;           /* where it was built; NULL: "out" in the workspace */
    unsigned boards;           /* how many, one after the other; 0: one */
    bool all_regions;          /* those of owner factory and device, too */
    bool steps_done;           /* what a person does is done already, but for fuses */
    bool only_show;            /* nothing is done */
    void (*show)(void *self, mosaicum *m); /* as in struct mosaicum_write */
    bool (*ask)(void *self, const char *what, const char *token);
    /* Tells of a step that begins; `asks`: somebody has to confirm that it is done, and true means
     * that.  NULL: nobody is there, and what would have to be confirmed stops it. */
    bool (*step)(void *self, const char *name, const char *text, bool asks);
    void *self; /* of all three */
};
/* MOSAICUM_REFUSED: the board, its storage or the image is not what it should be, or nobody
 * consented; MOSAICUM_SYSTEM: a step failed; MOSAICUM_FINDINGS: read back, it is something else. */
enum mosaicum_status mosaicum_program(mosaicum *m, const struct mosaicum_program *request);
/* Listening to a board that starts. */
struct mosaicum_listen {
    const char *selector; /* NULL: nothing is known of the board */
    const char *port;     /* "/dev/ttyUSB0", "tcp:HOST:PORT" */
    const char *stored;   /* a log, instead of a port */
    const char *out;      /* where it was built; NULL: out/ in the workspace */
    const char *log;      /* what comes is stored there, with its times; NULL */
    const char *junit;    /* what came of it, as JUnit XML; NULL */
    const char *bench;    /* the file about one's own table; NULL, or not there: there is none */
    const char *unit;     /* of that file; NULL: the one of this board */
    bool first_start;     /* it starts for the first time: that takes longer */
    bool cycle;           /* its power is switched off and on, as the bench file says */
    bool acceptance;      /* once it is up, its acceptance is gone through */
    bool running;         /* it is up already: no start is waited for */
    bool keys;            /* the keyboard goes to the board, until somebody leaves by F12 */
    bool ascii;           /* whoever looks has no UTF-8 */
    void *self;
    /* What the board prints, as it comes, without what would do more than show it; NULL: nobody
     * looks. */
    void (*show)(void *self, const void *bytes, size_t length);
    /* The ports that there are, as a report of the job; NULL: nobody looks. */
    void (*show_ports)(void *self, mosaicum *m);
    /* A word of ours beside it; bad: bad news; NULL: nobody listens. */
    void (*note)(void *self, const char *text, bool bad);
};
/* MOSAICUM_FINDINGS: it did not come up, or it is another build. */
enum mosaicum_status mosaicum_listen(mosaicum *m, const struct mosaicum_listen *request);
/* Files over a serial line. */
struct mosaicum_send {
    const char *const *files; /* that are sent */
    size_t count;
    const char *output; /* instead: what comes is taken, into this file or folder */
    const char *port;   /* NULL: of the unit on this table */
    const char *bench, *unit;
    const char *kind;    /* "ymodem", "xmodem", "xmodem-1k"; NULL: the first */
    const char *address; /* in the board's RAM, for a loader at its prompt; NULL: its own */
    const char *speed;   /* bits a second; NULL: 115200 */
    void *self;
    void (*note)(void *self, const char *text, bool bad); /* NULL: nobody listens */
};
enum mosaicum_status mosaicum_send(mosaicum *m, const struct mosaicum_send *request);
/* What a board tells of itself, at its loader's prompt or at a shell of its Linux. */
struct mosaicum_learn {
    const char *name; /* of the board: a selector, or a name that no board has yet; NULL: none */
    const char *port; /* NULL: of the unit on this table */
    const char *bench, *unit;
    const char *speed;         /* bits a second; NULL: 115200 */
    const char *folder;        /* where the draft goes; NULL: into the workspace, if it is new */
    const char *user;          /* who logs in; NULL: root */
    const char *password_file; /* NULL: there is none */
    const char *stored;        /* what was asked and answered, instead of a port; NULL */
    bool cycle;                /* the power is switched off and on first, as the bench file says */
    void *self;
    void (*note)(void *self, const char *text, bool bad); /* NULL: nobody listens */
};
/* Changes nothing on the board.  A board of the workspace is compared with what it tells
 * (MOSAICUM_FINDINGS: they differ); of any other a draft is written, never over anything. */
enum mosaicum_status mosaicum_learn(mosaicum *m, const struct mosaicum_learn *request);
/* Files of builds for boards, over the network. */
struct mosaicum_serve {
    const char *const *selectors; /* of the boards; none: all that are built */
    size_t selector_count;
    const char *out;                   /* where they were built; NULL: out/ in the workspace */
    const char *at;                    /* this computer's interface or address; NULL: of the unit */
    const char *by;                    /* "tftp" or "http"; NULL: both */
    const char *tftp_port, *http_port; /* NULL: 69 and 80 */
    const char *address;               /* what the board gets by DHCP; NULL: it gets nothing */
    const char *bench, *unit;
    void *self;
    void (*note)(void *self, const char *text, bool bad); /* NULL: nobody listens */
};
/* Ends when mos_platform_stop_waiting is called. */
enum mosaicum_status mosaicum_serve(mosaicum *m, const struct mosaicum_serve *request);
/* The page of a rule or symptom, as Markdown; NULL: no such rule (*near: a similar one, or NULL).
 */
const char *mosaicum_explain(const char *rule, const char **near);
/* Writes the demo workspace into a new or empty folder. */
enum mosaicum_status mosaicum_demo(mosaicum *m, const char *folder);

struct mosaicum_rule {
    const char *id, *title, *severity;
};
/* All rules in the order of their pages; how many there are.  *rules is the library's own, for as
 * long as the process. */
size_t mosaicum_rules(const struct mosaicum_rule **rules);

struct mosaicum_symptom {
    const char *id, *stage, *title;
};
/* All symptoms of a board that does not come up, in the order of a boot; the same. */
size_t mosaicum_symptoms(const struct mosaicum_symptom **symptoms);

/* ---- what came of it ---- */

/* What stopped the work (status 2, 3 and 4 without findings); NULL: nothing did. */
const char *mosaicum_error(const mosaicum *m);

enum mosaicum_severity { MOSAICUM_ERROR, MOSAICUM_WARNING, MOSAICUM_NOTE };

struct mosaicum_place {
    const char *file;        /* relative to the workspace; NULL: `thing` says it */
    unsigned line, column;   /* from 1; the column counts bytes */
    size_t length;           /* bytes that are meant, within the line */
    const char *source_line; /* the line's text; not NUL-terminated */
    size_t source_length;
    const char *thing;
    const struct mosaicum_place *replaced; /* what the value here took the place of, latest first */
    size_t replaced_count;
};

struct mosaicum_finding {
    enum mosaicum_severity severity;
    const char *rule;
    const char *selector;         /* for people: one, or several in a few words; may be NULL */
    const char *const *selectors; /* all of them */
    size_t selector_count;
    const char *message;
    const struct mosaicum_place *places;
    size_t place_count;
    const char *why, *remedy; /* may be NULL */
};

/* Findings that a waiver accepts; they are in no list. */
size_t mosaicum_waived_count(const mosaicum *m);
/* Boards that the job looked at. */
size_t mosaicum_board_count(const mosaicum *m);

/* What the last job found: errors first, then by place.  What is borrowed here stays until the next
 * job on the same handle; index must be below the count. */
size_t mosaicum_finding_count(const mosaicum *m);
const struct mosaicum_finding *mosaicum_finding_at(const mosaicum *m, size_t index);
/* How many of them have a severity; what is waived does not count. */
size_t mosaicum_count(const mosaicum *m, enum mosaicum_severity severity);
/* Facts that were unknown, so that a rule stayed silent. */
size_t mosaicum_not_proved_count(const mosaicum *m);
const char *mosaicum_not_proved_at(const mosaicum *m, size_t index);

/* A report: tables of rows, and texts.  One set of rows, many renderings. */
enum mosaicum_cell_kind {
    MOSAICUM_TEXT,
    MOSAICUM_ALARM,   /* text that is bad news */
    MOSAICUM_BYTES,   /* a size: number, and text with its unit */
    MOSAICUM_ADDRESS, /* number, and text 0x… */
    MOSAICUM_NUMBER,
    MOSAICUM_EXTENT, /* part of a whole: from << 16 | to, in 1/65535; drawn, not in JSON */
    MOSAICUM_EMPTY,
};

struct mosaicum_cell {
    enum mosaicum_cell_kind kind;
    const char *text;
    uint64_t number;
};

struct mosaicum_column {
    const char *key;   /* in JSON */
    const char *title; /* for people */
    bool right;        /* aligned to the right */
    bool optional;     /* may be left out where there is no room for it */
};

struct mosaicum_table {
    const char *key, *title;
    const struct mosaicum_column *columns;
    size_t column_count;
    const struct mosaicum_cell *cells; /* row by row; NULL: they are made when they are asked for */
    const struct mosaicum_rows *rows;  /* … by this, of the library */
    size_t row_count;
    const char *text; /* instead of rows: a text as it is */
    bool alarm;       /* its title is bad news */
    bool title_only;  /* for people the title says it all */
    /* rows with a cell in ( ) are about nothing of the user's; this sums them up for people who do
     * not ask for each; NULL: there are no such rows */
    const char *asides;
};

/* What the last job has to report, in the order of telling.  Borrowed until the next job. */
size_t mosaicum_table_count(const mosaicum *m);
const struct mosaicum_table *mosaicum_table_at(const mosaicum *m, size_t index);
/* Passes on the cells of each row, in order, as many as there are columns; they are borrowed until
 * the next.  false: row() gave up, or there was no memory (mosaicum_error). */
bool mosaicum_table_rows(mosaicum *m, const struct mosaicum_table *table,
                         bool (*row)(void *self, const struct mosaicum_cell *cells), void *self);

#endif
