/* Loaders' languages: what a driver tells about its loader, and does for it.  Each lives in a
 * folder of its own below loaders/. */
#ifndef MOS_BOOT_DIALECT_H
#define MOS_BOOT_DIALECT_H

#include "boot/parcel.h"
#include "boot/placement.h"
#include "boot/variables.h"
#include "fs/fs.h"
#include "linux/image.h"
#include "tree/tree.h"

/* A span of the script's device, bytes; no length: it is a file. */
struct mos_raw_span {
    uint64_t start, length;
};

/* One way to boot, with everything settled. */
struct mos_boot_step {
    const char *name;                                   /* of the entry */
    const char *kernel_file, *tree_file, *ramdisk_file; /* paths in the boot volume; NULL: none */
    const char *label;                                  /* for people; NULL: the name */
    const char *command;                                /* the loader's command for this kernel */
    const char *arguments;                              /* the kernel's command line */
    struct mos_placement kernel, tree, ramdisk;
    struct mos_raw_span kernel_raw, tree_raw, ramdisk_raw;
    struct mos_placement container; /* the parcel that they come in; no length: there is none */
    uint64_t packed_size;           /* of a kernel that the loader expands, in its file; or 0 */
};

struct mos_boot_script {
    const char *board;
    const char *device; /* the medium's name in the loader, as in "mmc 0" */
    unsigned partition; /* of the boot volume */
    const struct mos_boot_step *steps;
    size_t count;
    int64_t date;
    unsigned tries;            /* starts without a confirmation; 0: they are not counted */
    bool resets;               /* when nothing starts */
    unsigned timeout;          /* of a menu, seconds */
    const char *tree_variable; /* that chooses a tree; NULL: none does */
    const char *const *tree_values, *const *tree_files; /* its values and their files */
    size_t tree_count;
    const char *const *overlay_files; /* applied to the tree, in order */
    /* For each: the variable that must have the value, or NULL: always. */
    const char *const *overlay_variables, *const *overlay_values;
    size_t overlay_count;
    uint64_t overlay_at, overlay_room; /* where each is loaded; what the tree grows by at most */
    const char *parcel_file;           /* NULL: files by themselves */
    const char *server_folder;         /* files come from a server, below this; NULL: they do not */
    uint64_t parcel_at;
};

/* How a board reaches the server that has its files. */
struct mos_network_way {
    bool automatic;
    const char *address, *netmask, *gateway, *server; /* NULL: not stated */
    const char *folder;                               /* of the files, there */
};

/* What programs a flash by hand, region by region. */
struct mos_flash_item {
    const char *name, *file;
    uint64_t from, erase; /* whole blocks of the flash, bytes */
    uint64_t at, write;   /* where the file goes, and its bytes */
};
struct mos_flash_program {
    const char *board, *device; /* "sf 0" */
    bool nand;
    const char *correction; /* a raw NAND's own command, before anything else; NULL: none */
    const char *files_on;   /* the medium that the files are put on, as in "mmc 0" */
    uint64_t at, back_at;   /* RAM: where files are read to, and read back to */
    const struct mos_flash_item *items;
    size_t count;
};

/* A command of the loader, and what says that it was built in. */
struct mos_loader_command {
    const char *name, *symbol;
};

/* What a loader's own configuration calls the facts that definitions depend on. */
struct mos_loader_symbols {
    const char *waits; /* the variable that says for how long it waits for somebody to type */
    const char *environment_at, *environment_copy_at; /* bytes from the start of its medium */
    const char *environment_size, *flag_byte, *baud;
    const char *expands_to, *expands_size;             /* variables about a compressed kernel */
    const char *environment_device, *environment_area; /* numbers, for MOS_KEEPS_MMC */
    const char *next_stage_sector; /* where the first stage reads the next one, in 512 bytes */
    const char *next_stage_by_sector, *next_stage_by_partition; /* set when it does so */
    const char *next_stage_partition, *next_stage_file;
    const char *starts_by_itself;                     /* set when it starts something by itself */
    const char *most_words, *most_kernel, *most_line; /* limits: see struct mos_rig */
    const char *picks_by_tree;               /* a parcel's entry by the loader's own tree */
    const char *address_of[3], *limit_of[3]; /* variables about kernel, tree and ramdisk, or NULL */
    /* variables and a symbol that bound where trees and ramdisks are put at all */
    const char *bound_from, *bound_size, *bound_map, *bound_map_symbol;
    const char *overlay_address;          /* … and about a menu's overlays */
    const char *const *relocation_limits; /* variables that hold an address; NULL-terminated */
};

/* Where a loader may have been built to keep its environment. */
enum mos_keeping {
    MOS_KEEPS_NOWHERE,
    MOS_KEEPS_MMC, /* raw, on an SD card or an eMMC */
    MOS_KEEPS_FILE,
    MOS_KEEPS_NOR,
    MOS_KEEPS_NAND,
    MOS_KEEPS_OTHER,
};
struct mos_loader_keeping {
    const char *symbol;
    enum mos_keeping kind;
    const char *where; /* for people: "in a file of a FAT volume" */
    const char *files; /* MOS_KEEPS_FILE: the loader's word for that file system (fs/fs.h) */
};

/* How a loader looks for something to start. */
struct mos_loader_search {
    const char *mark;         /* a variable that a loader which searches has */
    const char *media;        /* the variable with the media, in their order */
    const char *const *files; /* in the order of looking; NULL-terminated */
};

/* Commands that bring something into RAM, or start what is there. */
struct mos_loader_verb {
    const char *name;
    unsigned loads_to, starts_at; /* the argument (from 1) with the address; 0: it does not */
    unsigned file;                /* the argument with the path of a file; 0: it has none */
};

/* What a text in the loader's language does with variables and places in RAM. */
enum mos_use_kind {
    MOS_USE_VALUE,  /* a variable's value is put in */
    MOS_USE_RUN,    /* it is carried out */
    MOS_USE_SET,    /* it gets a value */
    MOS_USE_TESTED, /* inside a test for emptiness: may be undefined on purpose */
};
struct mos_variable_use {
    enum mos_use_kind kind;
    const char *name;
    size_t offset, length; /* in the text */
};
enum mos_deed { MOS_DEED_LOADS, MOS_DEED_STARTS, MOS_DEED_SETS, MOS_DEED_USES };
struct mos_step {
    enum mos_deed deed;
    const char *what;                     /* an address or a variable, as it is written */
    const char *command;                  /* that does it */
    const struct mos_loader_variable *by; /* the variable with the script */
    bool in_loop;
};

struct mos_loader_language {
    /* All uses of variables in a text, in order; struct mos_variable_use items. */
    struct mos_vec (*variables)(struct mos_arena *arena, const char *text, size_t length);
    /* What the variables do once the board starts, in the order of their text and through each
     * other; struct mos_step items, so many at most that it ends. */
    struct mos_vec (*follow)(struct mos_arena *arena, const struct mos_map *variables);
    /* Does the loader itself set this variable at run time? */
    bool (*sets)(const char *name);
    /* Variables with the addresses of network ports 0, 1 …, which it writes into the tree's nodes
     * with the aliases ethernet0, ethernet1 …; NULL-terminated, or NULL. */
    const char *const *port_addresses;
    const struct mos_loader_verb *verbs; /* ends with a NULL name */
};

/* How variables are stored as a block of bytes, and what a running system is told about it. */
struct mos_stored_form {
    const char *file; /* its name on a volume, where nothing else is stated */
    size_t flag_at;   /* where a block's flag byte is, which says which copy is the newer one */
    /* Bytes that the variables need in a block, header included. */
    uint64_t (*size)(const struct mos_map *variables, bool flag_byte);
    /* Adds a block of `size` bytes, at least the needed ones. */
    void (*write)(struct mos_buf *out, const struct mos_map *variables, uint64_t size,
                  bool flag_byte);
    /* Reads a block; false: it is none, or damaged. */
    bool (*read)(struct mos_arena *arena, const uint8_t *data, size_t length, struct mos_map *out,
                 bool *flag_byte);
    /* The variables that are compiled into a loader's binary; false: there are none. */
    bool (*find)(struct mos_arena *arena, const uint8_t *binary, size_t length,
                 struct mos_map *out);
    /* A file of the system that says where the blocks lie, a line each; the program by which the
     * system says that all is well; and the one (with the entry's name behind it) that says which
     * entry comes first. */
    const char *system_file, *confirms, *chooses;
    /* erase 0: not flash. */
    void (*write_place)(struct mos_buf *out, const char *device, uint64_t at, uint64_t size,
                        uint64_t erase);
};

/* Commands that ways to boot need, beside those that start a kernel; NULL-terminated lists. */
struct mos_loader_ways {
    const char *const *file, *const *menu, *const *script, *const *parcel, *const *counted;
};

/* What the loader knows of a file system whose own row (fs/fs.h) does not name this dialect. */
struct mos_dialect_volume {
    const char *fs; /* the driver's name; NULL ends the list */
    struct mos_fs_loader as;
};

/* What the loader calls media, by the kinds of definitions, and the bus that the kernel finds them
 * on (linux/devices.h). */
struct mos_loader_medium {
    const char *word;       /* with a number behind it: "mmc 0"; NULL ends the list */
    const char *kind, *bus; /* kind NULL: no definition asks for it */
};

/* One thing behind the loader's old header. */
struct mos_wrapped {
    const char *name, *cpu, *type; /* cpu as definitions call it; type "kernel" or "ramdisk" */
    const char *compression;       /* of the bytes: "gz", "xz", "zst"; NULL: none */
    uint32_t load, entry;
    int64_t date;
    const void *bytes;
    size_t length;
};

struct sim_loader; /* rehearse/sim.h */

/* What an eMMC is told once, by hand, in the loader. */
struct mos_emmc_setup {
    const char *board, *device; /* "mmc 0" */
    unsigned area;              /* that the ROM is given: 1 or 2; 0: not stated */
    bool acknowledge, reset_pin;
    unsigned bus_width; /* 0: not stated */
    int64_t date;
};

/* What a loader does at its prompt for whoever programs a board through it.  A deed is one or more
 * commands; each has an answer. */
enum mos_order_deed {
    MOS_ORDER_MEMORY,   /* tells of its RAM */
    MOS_ORDER_IDENTIFY, /* makes the medium its current one, and tells what it is */
    MOS_ORDER_READ,     /* `length` bytes at `at` of the medium to `address` in RAM */
    MOS_ORDER_WRITE,    /* … and from there */
    MOS_ORDER_FILL,     /* RAM with one byte, `fill` */
    MOS_ORDER_SUM,      /* tells the CRC-32 of RAM */
    MOS_ORDER_NETWORK,  /* is told its own and the server's address */
    MOS_ORDER_FETCH,    /* a file from the server to RAM */
    MOS_ORDER_RECEIVE,  /* the same over its serial line, by YMODEM */
    MOS_ORDER_DEEDS,
};
/* RAM of a board that holds two pieces of so many bytes is the least that it can be done with. */
enum { MOS_ORDER_LEAST_PIECE = 64 << 10 };
struct mos_order {
    enum mos_order_deed deed;
    const char *medium; /* as definitions have it: "mmc 0" */
    unsigned area;      /* of an eMMC: 1 and 2 are its boot areas; 0: the main one */
    uint64_t at, length, address;
    uint8_t fill;
    const char *file;                           /* its name at the server */
    const char *own_address, *netmask, *server; /* in dots */
};
/* What its answers tell. */
struct mos_order_told {
    uint64_t from, to;   /* RAM that nobody uses; 0, 0: not told */
    char name[64];       /* the medium's own; "": not told */
    uint64_t size, blur; /* of the medium, bytes; it may be so many more or less */
    uint64_t bytes;      /* that came to RAM */
    uint32_t sum;
    bool has_sum, has_bytes;
};
struct mos_loader_orders {
    const char *prompt;             /* that begins a line where it waits for a command */
    const char *interrupt;          /* keys that stop its countdown, and give up a line */
    const char *fetches, *receives; /* its commands for FETCH and RECEIVE */
    const char *receives_xmodem;    /* … and to receive by XMODEM */
    const char *calls;              /* what its answer to RECEIVE ends with once it listens */
    /* Can it write that medium at all?  NULL, or why not in a few words. */
    const char *(*takes)(const char *medium);
    /* Its commands that a medium needs; NULL-terminated. */
    const char *const *(*commands)(const char *medium);
    /* The deed's command of that index, from 0; false: there is none. */
    bool (*type)(const struct mos_order *order, size_t index, struct mos_buf *out);
    /* Reads the answer to it; NULL, or what went wrong, in a few words of static text. */
    const char *(*understand)(const struct mos_order *order, size_t index, const char *answer,
                              struct mos_order_told *told);
};

struct mos_dialect;
struct mos_learned; /* learning/learned.h */

/* What is asked at its prompt about itself; nothing of it changes what is stored. */
struct mos_loader_questions {
    const char *version; /* its command that tells which loader it is, and of what version … */
    bool (*is)(const char *answer); /* … is this an answer of such a loader? */
    /* The first questions; later ones follow from the answers.  heard: what it said before it
     * stood at its prompt. */
    void (*ask)(struct mos_learned *l, const struct mos_dialect *dialect, const char *heard);
};

/* What a loader prints on its console, as texts that watch/matcher.h takes. */
struct mos_loader_speech {
    const char *first, *loader; /* how a first stage of it begins, and itself: {} is its version */
    const char *hands_over;     /* it gives the board to the kernel */
    /* The version in a binary of it (that of its first stage, or itself); NULL: there is none. */
    const char *(*version)(struct mos_arena *arena, const uint8_t *bytes, size_t length,
                           bool first);
};

/* Whatever is NULL, the loader has not, or nobody knows: a definition that asks for it is refused,
 * and no rule says a word about it.  There must be a name and one medium; `sets` where the language
 * has `variables` or `follow`. */
struct mos_dialect {
    const char *name;
    const char *script_file;   /* where the loader looks for it in the boot volume */
    const char *script_suffix; /* of other scripts, in files beside the images: "scr" */
    /* The script's text. */
    void (*write_script)(const struct mos_boot_script *script, struct mos_buf *out);
    /* The same entries, their files from a server. */
    void (*write_network)(const struct mos_boot_script *script, const struct mos_network_way *way,
                          struct mos_buf *out);
    /* The text as the file that the loader reads. */
    void (*wrap_script)(const struct mos_boot_script *script, const char *text, size_t length,
                        struct mos_buf *out);
    /* The thing with its header; a sentence about what the header cannot say, or NULL. */
    const char *(*wrap)(const struct mos_wrapped *what, struct mos_buf *out);
    const char *menu_file;
    void (*write_menu)(const struct mos_boot_script *script, struct mos_buf *out);
    /* Variables that do the same as the script: each is told to `set`. */
    void (*write_variables)(const struct mos_boot_script *script, struct mos_arena *arena,
                            void (*set)(void *self, const char *name, const char *value),
                            void *self);
    bool applies; /* scripts choose trees, and apply overlays */
    bool moves;   /* kernel, tree and ramdisk go to their last places; else all stays where it is */
    const char *const
        *expands; /* compressions of kernels, as in "gzip"; NULL-terminated, or NULL */
    bool parcels; /* it takes kernels out of parcels, and runs a script beside them */
    /* The commands that set up an eMMC. */
    void (*write_emmc_setup)(const struct mos_emmc_setup *setup, struct mos_buf *out);
    /* The commands that program a flash. */
    void (*write_flash_program)(const struct mos_flash_program *program, struct mos_buf *out);
    const struct mos_loader_orders *orders;       /* at its prompt */
    const struct mos_loader_questions *questions; /* NULL: nobody knows what to ask it */
    const struct mos_loader_speech *speech;
    const struct mos_stored_form *stored;
    /* A file of the loader's own making by its first bytes: the word for its form in definitions,
     * and (unless about is NULL) a text for people; NULL: it is none. */
    const char *(*recognise)(struct mos_arena *arena, const uint8_t *head, size_t length,
                             const char **about);
    /* The loader's own tree, wherever its file has it, is changed there: `change` gets each such
     * tree and returns false to give up.  The whole file as it is then goes to *out; false with
     * *problem, one sentence. */
    bool (*lock)(struct mos_ctx *ctx, const uint8_t *bytes, size_t length,
                 bool (*change)(void *self, struct mos_dt *dt), void *self, struct mos_buf *out,
                 const char **problem);
    struct mos_loader_language language;
    /* The command that starts a kernel of each form; NULL: it cannot. */
    const char *starts[MOS_KERNEL_FORMS];
    const char *parcel_starts; /* … and one in a parcel */
    struct mos_loader_ways ways;
    const char *unknown[2]; /* what it prints before and behind a command that it has not */
    struct mos_loader_symbols symbols;
    const struct mos_loader_command *commands; /* ends with a NULL name */
    const struct mos_loader_command *forms;   /* what it can read: tables, compressions …; same */
    const struct mos_loader_command *storage; /* drivers by what media are called; same */
    const struct mos_loader_command *first_storage; /* the same in the first stage */
    const struct mos_loader_command *processors;    /* "arm64"; same */
    const struct mos_loader_keeping *keepings;      /* ends with a NULL symbol */
    const struct mos_dialect_volume *volumes;       /* NULL: the drivers of fs/ know it all */
    const struct mos_loader_medium *media;          /* the first is what is taken for granted */
    struct mos_loader_search search;
    /* Variables by which a loader that nothing else is known of starts one of search.files; out:
     * name
     * -> const char *value.  NULL: a rehearsal cannot do without the loader's own. */
    void (*starts_file)(struct mos_arena *arena, const char *medium, unsigned partition,
                        const char *path, struct mos_map *out);
    const struct sim_loader *simulated; /* NULL: it cannot be rehearsed */
};

/* What the loader calls the first medium of a kind ("sd"): "mmc 0". */
const char *mos_dialect_medium(const struct mos_dialect *dialect, struct mos_arena *arena,
                               const char *kind);
/* What the kernel calls the medium that the loader calls "mmc 1"; NULL: nobody knows. */
const char *mos_dialect_kernel_name(const struct mos_dialect *dialect, struct mos_arena *arena,
                                    const char *medium);
/* What loaders of the dialect know of a file system; NULL: they cannot read it.  fs may be NULL. */
const struct mos_fs_loader *mos_dialect_reads(const struct mos_dialect *dialect,
                                              const struct mos_fs_driver *fs);

#endif
