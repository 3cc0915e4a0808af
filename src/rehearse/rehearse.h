/* The rehearsal: runs what a loader would run, on the bytes of images and nothing else, and looks
 * at what it would hand over to the kernel and what the kernel would find then. */
#ifndef MOS_REHEARSE_REHEARSE_H
#define MOS_REHEARSE_REHEARSE_H

#include "boot/dialect.h"
#include "boot/placement.h"
#include "fs/fs.h"
#include "io/io.h"

/* A storage device as the loader and the kernel know it. */
struct mos_rig_medium {
    const char *name;   /* for people: "card" */
    const char *loader; /* "mmc 0" */
    const char *kernel; /* "mmcblk0"; NULL: not known */
    struct mos_io *io;
    bool keeps;     /* what the loader's commands write comes into io; else it is gone in the end */
    uint64_t erase; /* bytes of a flash that are erased at once; 0: not known */
    const uint64_t *bad; /* blocks of a raw NAND that its commands step over */
    size_t bad_count;
};

/* Where the loader keeps its environment. */
struct mos_rig_environment {
    const struct mos_rig_medium *medium;
    uint64_t at, copy_at, size; /* bytes; copy_at UINT64_MAX: one copy */
    bool flag_byte;
    const char *file; /* instead of a place: in FAT, partition `partition` of the medium */
    unsigned partition;
    const char *what; /* "environment 2 MiB into card" */
};

/* Adds a block of variables to a list of struct mos_rig_environment; a second one of the same
 * size and form on the same medium is the other copy of the first. */
void mos_rig_add_block(struct mos_arena *arena, struct mos_vec *environments,
                       const struct mos_rig_medium *medium, uint64_t at, uint64_t size,
                       bool flag_byte);
/* Adds a file with the loader's variables, in a partition that it can read. */
void mos_rig_add_file(struct mos_arena *arena, struct mos_vec *environments, const char *file,
                      const struct mos_rig_medium *medium, unsigned partition, uint64_t size);

/* A volume that is known by what it will hold, not by bytes of its medium. */
struct mos_rig_volume {
    const struct mos_rig_medium *medium;
    uint64_t at;                 /* of its first byte there */
    struct mos_volume_info info; /* as a probe of its bytes would tell */
    bool empty;                  /* nobody said what it holds: another job fills it */
    bool no_system;              /* what it holds so far is no system: no program is there */
    void *self;
    /* What lies at a path without a leading slash; links are not followed, and a further name of a
     * file is a file whose target is its first name.  false: nothing. */
    bool (*find)(void *self, const char *path, struct mos_entry *out);
    /* All entries, without data. */
    bool (*list)(void *self, const struct mos_sink *sink);
    /* The bytes of a file; false: they are not known. */
    bool (*bytes)(void *self, const char *path, const uint8_t **bytes, size_t *length);
};

/* By what the loader chooses among the entries of a parcel. */
enum mos_picks { MOS_PICKS_UNKNOWN, MOS_PICKS_USUAL, MOS_PICKS_BY_TREE };

/* What a stage that starts the kernel by itself was built to read, and where it puts it. */
struct mos_rig_direct {
    const char *entry, *medium;
    struct mos_ram_span kernel, tree; /* bytes of the medium */
    uint64_t kernel_to, tree_to;      /* addresses */
};

/* What is soldered on: no image can tell it. */
struct mos_rig {
    const struct mos_rig_direct *direct; /* NULL: a loader starts */
    const struct mos_dialect *dialect;   /* of its loader: one that can be rehearsed */
    const char *cpu;                     /* "arm64"; NULL: what the kernel says */
    struct mos_ram_span ram;             /* length 0: not known */
    uint64_t loader_from;                /* the loader itself lies from here to the end of RAM;
                                            0: not known */
    const struct mos_ram_span *held;     /* RAM that others own: nothing is loaded there */
    size_t held_count;
    const struct mos_rig_medium *media;
    size_t media_count;
    const struct mos_rig_environment *environments; /* the first that is whole is used */
    size_t environment_count;
    const struct mos_rig_volume *volumes; /* what lies there is asked of them, not of bytes */
    size_t volume_count;
    const struct mos_map *compiled; /* the loader's own variables; NULL: not known */
    const char *const *lacks;       /* commands and file systems it was built without, "overlays";
                                       NULL-terminated, or       NULL */
    const char *const *has;         /* rare file systems that it was built with; the same */
    const uint8_t *tree;            /* of the loader itself (fdtcontroladdr); NULL: none */
    size_t tree_length;
    const uint8_t *keys; /* a tree with the public keys that parcels must be signed with */
    size_t keys_length;
    unsigned long watchdog; /* seconds; the loader starts it before the hand-over; 0: none */
    bool waits;             /* it was built not to start anything by itself */
    /* limits that it was built with; 0: not known */
    uint64_t most_words;  /* of a command, with its name */
    uint64_t most_kernel; /* bytes of a kernel that is copied or expanded out of a container */
    uint64_t boot_map;    /* bytes from the start of RAM that trees and ramdisks are put into */
    uint64_t most_line;   /* characters of a menu's arguments, with their end */
    enum mos_picks picks; /* which entry of a parcel it takes, when none is named */
    bool never_confirms;  /* the kernel starts, but nobody says that all is well */
    const char *const *refused; /* entries whose boot command fails, to see what comes next;
                                   NULL-terminated, or NULL */
    const char *const *set; /* variables that are set besides: name, value, …, NULL; or NULL */
};

enum mos_event_kind {
    MOS_EVENT_RUN,     /* a variable, script or menu entry begins */
    MOS_EVENT_READ,    /* bytes from a medium into RAM */
    MOS_EVENT_MOVE,    /* bytes in RAM are moved or unpacked */
    MOS_EVENT_OVER,    /* something in RAM is overwritten */
    MOS_EVENT_SAY,     /* the loader prints */
    MOS_EVENT_TROUBLE, /* the loader complains */
    MOS_EVENT_STORE,   /* the environment is written */
    MOS_EVENT_HAND,    /* hand-over to the kernel */
    MOS_EVENT_KERNEL,  /* what the kernel finds */
    MOS_EVENT_WRONG,   /* what stops it */
    MOS_EVENT_UNKNOWN, /* not proved */
};

/* Who does it, from power-on to the log-in. */
enum mos_event_part {
    MOS_PART_HARDWARE,
    MOS_PART_STAGE, /* that starts the kernel by itself */
    MOS_PART_LOADER,
    MOS_PART_KERNEL,
    MOS_PART_SYSTEM
};

struct mos_event {
    enum mos_event_kind kind;
    const char *what;   /* a sentence, or the name of what is read */
    const char *from;   /* "card:1 (BOOT)"; NULL */
    uint64_t at, bytes; /* in RAM; bytes 0: none */
    unsigned depth;     /* of run, source */
    enum mos_event_part part;
};

enum mos_rehearsal_end {
    MOS_END_BOOTS,   /* as far as can be told, up to the log-in */
    MOS_END_SHELL,   /* the kernel finds no init and starts a bare shell */
    MOS_END_NO_ROOT, /* the kernel starts and finds no root or no init */
    MOS_END_PROMPT,  /* the loader gives up and waits for somebody to type */
    MOS_END_SILENT,  /* the kernel dies before it can say a word, or nothing starts */
    MOS_END_RESET,   /* it starts again and again */
    MOS_END_HANGS,   /* it waits for ever */
    MOS_END_OFF,     /* the loader switches the board off */
    MOS_END_UNKNOWN, /* a fact that nobody told decides it: *reason says which */
};

/* Where the first complaint of what failed came from. */
struct mos_rehearsal_cause {
    const char *variable; /* the variable whose commands ran; NULL: a script's or menu's */
    const char *command;  /* the command, its variables replaced; NULL: none */
    const char *argument; /* of the kernel, "root=PARTUUID=…"; NULL: none */
};

/* A start that came to nothing, before the one that the result is about. */
struct mos_failed_start {
    const char *entry, *reason; /* entry NULL: it did not come so far */
    unsigned times;
    bool boots; /* it did start, and nobody confirmed it */
    struct mos_rehearsal_cause cause;
};

/* An entry that was tried and came to nothing, before another in the same start. */
struct mos_passed_entry {
    const char *entry, *reason;
    struct mos_rehearsal_cause cause;
};

struct mos_ram_use {
    const char *what; /* "kernel (card:1 kernel)" */
    const char *role; /* "kernel", "tree", "ramdisk" */
    struct mos_ram_span span;
    const struct mos_touched *file; /* that it came from, whole; NULL: none */
};

struct mos_rehearsal {
    enum mos_rehearsal_end end;
    const char *entry;     /* what was started: an entry's or label's name, or else its kernel */
    const char *root;      /* the volume that became its root; NULL: none did */
    struct mos_vec failed; /* of struct mos_failed_start, in order */
    const char *reason;    /* one sentence about the end */
    struct mos_rehearsal_cause cause; /* of that */
    struct mos_vec passed;            /* of struct mos_passed_entry, each once */
    struct mos_vec events;            /* of struct mos_event */
    struct mos_vec ram;               /* of struct mos_ram_use: at hand-over */
    struct mos_vec files;             /* of const struct mos_touched *: what was read on the way */
    struct mos_buf console;           /* everything that the loader prints */
    const char *arguments;            /* NULL: no kernel was started */
    struct mos_kernel_header kernel;  /* of the one that was */
    const char *release;              /* of it, "6.1.0-50-arm64"; NULL: it does not tell */
    const char *model;                /* of the tree that it gets; NULL: none, or without one */
    const char *program; /* the first program that it starts, of its ramdisk or root; NULL: none */
    bool by_ramdisk;     /* … of the ramdisk, which mounts the root */
    bool log_in;         /* a log-in is started on its console */
    unsigned starts;     /* how often the loader was started */
    bool stored;         /* it wrote its environment */
};

/* A file that the boot read, for breaking it. */
struct mos_touched {
    const struct mos_rig_medium *medium;
    unsigned partition; /* 0: a raw place */
    const char *path;   /* NULL: a raw place */
    uint64_t offset, length;
    unsigned start; /* in which start of the loader, from 1 */
};

/* Runs from the environment to the log-in.  Errors (ctx->error) are only those of this computer:
 * what is wrong with the images is in *out. */
bool mos_rehearse(struct mos_ctx *ctx, const struct mos_rig *rig, struct mos_rehearsal *out);

/* Runs one text after another in one shell, without booting (tests): what it prints. */
struct mos_rehearsal_shell;
struct mos_rehearsal_shell *mos_rehearsal_shell(struct mos_ctx *ctx, const struct mos_rig *rig);
const char *mos_rehearsal_type(struct mos_rehearsal_shell *shell, const char *text);
/* An event of that shell begins with this. */
bool mos_rehearsal_told(const struct mos_rehearsal_shell *shell, const char *text);

#endif
