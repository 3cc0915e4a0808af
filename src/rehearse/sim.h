/* The inside of a rehearsal. */
#ifndef MOS_REHEARSE_SIM_H
#define MOS_REHEARSE_SIM_H

#include "disk/table.h"
#include "fs/fs.h"
#include "rehearse/rehearse.h"
#include "tree/tree.h"

/* ---- RAM ---- */

/* Something that was put into RAM. */
struct sim_thing {
    const char *what;
    const struct mos_touched *file; /* that it is all of; NULL: none */
    struct mos_ram_span span;
    bool spent;          /* it did what it was read for */
    const char *spoiled; /* what was written over it; NULL: it is whole */
};

struct sim_ram {
    struct mos_arena *arena;
    uint8_t **table;      /* of uint8_t *, by page */
    const uint8_t **lent; /* pages that are somebody's bytes, copied before they change */
    uint64_t start, length;
    struct mos_vec things; /* of struct sim_thing * */
};

/* ---- volumes ---- */

struct sim_file {
    const char *path; /* without a leading slash */
    enum mos_entry_type type;
    uint16_t mode;
    uint64_t size;
    const char *target;
};

struct sim_volume {
    const struct mos_rig_medium *medium;
    unsigned partition; /* 0: the whole medium */
    struct mos_io io;
    bool is_there; /* there is such a partition */
    bool readable; /* it holds a file system that we (and the loader) can read */
    struct mos_volume_info info;
    struct mos_map files; /* path -> struct sim_file *; of a planned one those asked for */
    const struct mos_rig_volume *planned; /* it has no bytes yet: who knows what it will hold */
    const struct mos_partition *entry;
};

struct sim_disk {
    const struct mos_rig_medium *medium;
    struct mos_io *io; /* its bytes, with what was written since */
    bool written;
    const struct mos_table_driver *driver; /* NULL: no table */
    struct mos_table_data table;
    struct mos_vec volumes; /* of struct sim_volume * */
};

/* What is to be started, as the loader's commands have settled it: see hand.c. */
struct sim_boot {
    uint64_t kernel, kernel_size;                                   /* as loaded, or unpacked */
    const struct sim_thing *kernel_from, *tree_from, *ramdisk_from; /* what they are; NULL: ? */
    struct mos_kernel_header header;
    uint64_t runs_at, runs_size;
    uint64_t tree, tree_size, ramdisk, ramdisk_size; /* where the kernel gets them; size 0: none */
    const char *arguments;
    bool by_ramdisk;  /* its first program decides what becomes of the root */
    bool checked;     /* a sum over the kernel's bytes was right */
    const char *harm; /* what was overwritten before it was used; NULL: nothing */
};

enum sim_stop { SIM_GOES_ON, SIM_RESET, SIM_STARTED, SIM_HANGS, SIM_ENDLESS, SIM_OFF };

struct sim;

/* A loader in a rehearsal: what the dialect's driver (boot/dialect.h) carries out of its own
 * language.  All of them work on one struct sim, which outlives several starts of the board. */
struct sim_loader {
    /* What is there before the first command: variables, the loader's own tree.  Called once a
     * start, after RAM was made; s->own is the last start's, or NULL at the first. */
    void (*wake)(struct sim *s);
    /* What it does by itself then; returns when s->stop says what became of it, or (SIM_GOES_ON)
     * at its prompt.  Whatever keeps it from starting something is a trouble (sim_trouble). */
    void (*start)(struct sim *s);
    /* What somebody types at its prompt; NULL: there is none. */
    void (*type)(struct sim *s, const char *text);
};

struct sim {
    struct mos_ctx *ctx;
    struct mos_arena *arena;
    const struct mos_rig *rig;
    struct mos_rehearsal *out;
    const struct mos_dialect *dialect; /* rig->dialect */
    void *own;                         /* the loader's own state, of its own type */
    struct mos_map env;                /* name -> const char *value; NULL: not set */
    struct mos_map stored; /* what the loader keeps for the next start; made at the first */
    bool has_stored;
    struct sim_ram ram;
    struct mos_vec disks;     /* of struct sim_disk * */
    unsigned depth;           /* of scripts within scripts, for events */
    enum mos_event_part part; /* who acts just now */
    unsigned long steps;      /* commands so far */
    enum sim_stop stop;
    struct sim_boot boot;
    const char *entry; /* name of what is being tried; NULL: it has none */
    /* what was complained about since that began, first and last; NULL: nothing */
    const char *first_trouble, *last_trouble;
    const char *undecided; /* a fact that nobody told and that decides how it ends; NULL: none */
    struct mos_buf *console;
    /* what runs just now, for naming causes */
    const char *variable;     /* whose commands run; NULL: those of a script or menu */
    const char *const *words; /* of the command; NULL: none */
    int word_count;
    const char *argument;             /* of the kernel, that was looked at last; NULL: none */
    struct mos_rehearsal_cause cause; /* of the first trouble that a command had */
};

/* ---- sim.c ---- */
void sim_event(struct sim *s, enum mos_event_kind kind, uint64_t at, uint64_t bytes,
               const char *from, const char *format, ...) __attribute__((format(printf, 6, 7)));
/* The loader prints. */
void sim_print(struct sim *s, const char *format, ...) __attribute__((format(printf, 2, 3)));
/* The loader complains: a line of its own, an event; returns 1, a command's code for it. */
int sim_trouble(struct sim *s, const char *format, ...) __attribute__((format(printf, 2, 3)));
/* The same without a word of the loader. */
void sim_note_trouble(struct sim *s, const char *text);
/* Work over many bytes counts as commands do: a script that does nothing else must end, too. */
void sim_charge(struct sim *s, uint64_t bytes);
/* Another entry, label or script is tried: what was complained about before is its past.  name
 * NULL: it has none of its own. */
void sim_try(struct sim *s, const char *name);
/* The complaints of this attempt, of which there is one at least. */
const char *sim_complaint(struct sim *s);
/* A fact that nobody stated, and without which nobody can tell how the boot ends. */
void sim_undecided(struct sim *s, const char *format, ...) __attribute__((format(printf, 2, 3)));
/* A fact that nobody stated. */
void sim_unknown(struct sim *s, const char *format, ...) __attribute__((format(printf, 2, 3)));
const char *sim_get(const struct sim *s, const char *name);           /* NULL: not set */
void sim_set(struct sim *s, const char *name, const char *value);     /* NULL: unset */
void sim_set_number(struct sim *s, const char *name, uint64_t value); /* hexadecimal */
/* A number as the loader reads it: hexadecimal unless 0x…; *end behind it. */
uint64_t sim_number(const char *text, const char **end, int base);
bool sim_address(const char *text, uint64_t *out); /* all of it */

/* The loader was built without this command or ability. */
bool sim_lacks(const struct sim *s, const char *name);
/* Is it known to have been built with something that most are built without? */
bool sim_has(const struct sim *s, const char *name);

/* ---- ram.c ---- */
void sim_ram_start(struct sim *s);
/* Is all of a range RAM that nobody else needs?  The loader refuses otherwise. */
bool sim_ram_free(const struct sim *s, uint64_t at, uint64_t length);
bool sim_ram_is(const struct sim *s, uint64_t at, uint64_t length);
/* The loader reads at an address.  true: nothing is there, and it has stopped (below the RAM other
 * things may answer). */
bool sim_aborts(struct sim *s, uint64_t at);
/* Why it is not. */
const char *sim_ram_why(const struct sim *s, uint64_t at, uint64_t length);
void sim_ram_write(struct sim *s, uint64_t at, const void *bytes, size_t length);
/* The same with bytes that stay as they are: whole pages are not copied. */
void sim_ram_lend(struct sim *s, uint64_t at, const uint8_t *bytes, size_t length);
void sim_ram_read(const struct sim *s, uint64_t at, void *to, size_t length);
/* A copy of a range in the arena; NULL: it is not in RAM, or longer than `limit`. */
uint8_t *sim_ram_copy(const struct sim *s, uint64_t at, uint64_t length, uint64_t limit);
/* What lies in one piece from an address on, to look at only: *length becomes at most what was
 * asked for.  NULL: nothing was put there. */
const uint8_t *sim_ram_look(const struct sim *s, uint64_t at, uint64_t *length);
/* Notes what lies in a range from now on, and what that spoils. */
struct sim_thing *sim_ram_claim(struct sim *s, uint64_t at, uint64_t length, const char *what);
/* What lies at an address, latest first; NULL: nothing that we know. */
struct sim_thing *sim_ram_at(const struct sim *s, uint64_t at);

/* ---- tree.c ---- */
/* The tree at an address; NULL: there is none, or it is damaged. */
struct mos_dt *sim_tree(const struct sim *s, uint64_t at);

/* ---- storage.c ---- */
/* "mmc", "0" → the disk; NULL: there is none. */
struct sim_disk *sim_disk(struct sim *s, const char *kind, const char *number);
/* Its bytes, to be written: the medium's own where that keeps it, else a layer over them. */
struct mos_io *sim_disk_to_write(struct sim *s, struct sim_disk *d);
struct sim_disk *sim_disk_of(struct sim *s, const struct mos_rig_medium *medium);
struct sim_volume *sim_volume(struct sim *s, struct sim_disk *disk, unsigned partition);
/* The whole device, whatever table it has. */
struct sim_volume *sim_whole(struct sim *s, struct sim_disk *disk);
/* A file by its path, links followed; NULL: it is not there. */
const struct sim_file *sim_file(struct sim *s, struct sim_volume *v, const char *path);
/* Makes v->files whole: before they are listed. */
void sim_volume_list(struct sim *s, struct sim_volume *v);
bool sim_volume_is_empty(struct sim *s, struct sim_volume *v); /* nothing besides its root folder */
/* A file's bytes [from, from + length) to a place in RAM; false: unreadable. */
bool sim_file_load(struct sim *s, struct sim_volume *v, const struct sim_file *f, uint64_t from,
                   uint64_t length, uint64_t to);
/* The same as a loader does it: `room` bytes must be free there (else SIM_NO_ROOM); what is read is
 * an event, and lies in RAM from then on. */
enum sim_loaded { SIM_LOADED, SIM_NO_ROOM, SIM_UNREADABLE };
enum sim_loaded sim_load(struct sim *s, struct sim_volume *v, const struct sim_file *f,
                         uint64_t from, uint64_t length, uint64_t room, uint64_t at);
/* A whole file of at most `limit` bytes; NULL: unreadable, or larger. */
uint8_t *sim_file_bytes(struct sim *s, struct sim_volume *v, const struct sim_file *f,
                        uint64_t limit, size_t *length);
/* A file system that lies in RAM, as one more volume; its files are listed. */
struct sim_volume *sim_volume_in_ram(struct sim *s, struct mos_io io,
                                     const struct mos_fs_driver *driver);
const char *sim_volume_name(struct sim *s, const struct sim_volume *v); /* "card:1 (BOOT)" */
/* What this loader knows of a volume's file system; NULL: it cannot read it. */
const struct mos_fs_loader *sim_loader_reads(struct sim *s, const struct sim_volume *v);

/* ---- hand.c: to the kernel's first instruction ---- */
/* What lies at an address becomes s->boot's kernel, as it was loaded; true: its header is that of a
 * kernel (s->boot.header).  Its running place is still to be settled. */
bool sim_kernel_at(struct sim *s, uint64_t at);
/* Has anything been put over a thing since it was put where it is now?  To be asked when it is
 * used; s->boot.harm says so. */
void sim_note_harm(struct sim *s, const char *what, const struct sim_thing *from, uint64_t at,
                   uint64_t size);
/* Bytes in RAM go to another place, as a loader does it with what is not where it must be. */
void sim_move(struct sim *s, uint64_t from, uint64_t to, uint64_t size, const char *what);
/* The loader was told to refuse this entry (--without): nonzero, after it said so. */
int sim_refused(struct sim *s);
/* The hand-over: s->boot is complete, and the kernel runs from now on with these arguments. */
void sim_hand(struct sim *s, const char *arguments);

/* ---- kernel.c ---- */
/* What the kernel finds; sets out->end and out->reason. */
void sim_kernel(struct sim *s);

#endif
