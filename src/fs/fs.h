/* File systems: one driver a kind, reader beside writer. */
#ifndef MOS_FS_FS_H
#define MOS_FS_FS_H

#include "fs/inventory.h"
#include "io/io.h"

/* What a volume shall be. */
struct mos_volume_wish {
    uint64_t size;          /* of its region, bytes */
    uint64_t spare;         /* bytes that must stay free */
    uint64_t region_offset; /* on the medium (hidden sectors) */
    uint32_t sector;        /* of the medium, bytes */
    const char *label;      /* "" for none */
    uint8_t uuid[16], hash_seed[16];
    int64_t date;
    uint32_t unit;     /* bytes of an allocation unit; 0: chosen */
    uint64_t reserved; /* bytes that only the system may use */
    uint64_t inodes;   /* 0: chosen */
    bool no_journal;
    const char *compress; /* "gz", "xz", "zst"; NULL: the usual one, or none */
};

/* A span of the region and what its bytes mean. */
enum mos_span_kind { MOS_SPAN_DATA, MOS_SPAN_ZERO, MOS_SPAN_FREE };
struct mos_span {
    uint64_t offset, length;
    enum mos_span_kind kind;
};

/* What came of it. */
struct mos_volume_result {
    bool fits;
    uint64_t missing;                         /* bytes by which it does not fit */
    uint64_t content, structure, free, spare; /* bytes */
    uint64_t entries;
    uint32_t block_size;
    struct mos_vec spans; /* of struct mos_span, in order: what a writer must put on the medium */
};

/* What a reader can tell about a volume. */
struct mos_volume_info {
    const struct mos_fs_driver *driver; /* who can read it; NULL: nobody */
    const char *kind;                   /* "ext4" */
    const char *label;                  /* "" for none */
    const char *id;                     /* UUID, or volume serial number */
    uint64_t size, free;
    uint64_t files; /* inodes in use; 0: not known */
    uint32_t block_size;
    bool has_free; /* `free` is right even when it is 0 */
    bool pending;  /* it was not unmounted */
    bool damaged;
    const char *problem; /* when damaged */
    struct mos_vec
        names; /* of const char *: what lies in its root folder, where a reader can list it */
};

/* Reading a volume: what is asked for, and where what is wrong is noted. */
struct mos_read_request {
    const struct mos_sink *sink;
    /* Asked before a file's data is read; without it none is: end() comes at once.  NULL: all. */
    bool (*wants)(void *self, const struct mos_entry *entry);
    void *self;
    bool whole_links;         /* every name of a hard link comes as a file of its own */
    struct mos_vec *problems; /* of const char *; at most MOS_MOST_PROBLEMS */
    const char *within; /* what is really wanted: a path in normal form, or NULL for all … */
    bool *lost;         /* … and set when some of that cannot be read; may be NULL */
};
enum { MOS_MOST_PROBLEMS = 100 };
/* For `wants`: only the entries matter. */
bool mos_wants_no_data(void *self, const struct mos_entry *entry);
void mos_volume_problem(const struct mos_read_request *request, const char *format, ...)
    __attribute__((format(printf, 2, 3)));

/* A problem by which something at or below `path` (NULL: anywhere) is not what it was. */
void mos_volume_lost(const struct mos_read_request *request, const char *path, const char *format,
                     ...) __attribute__((format(printf, 3, 4)));

struct mos_volume_writer; /* begins with struct mos_volume_base */

struct mos_volume_base {
    const struct mos_fs_driver *driver;
    struct mos_ctx *ctx;
    struct mos_io *io; /* NULL: count only */
    struct mos_volume_wish wish;
    struct mos_inventory *inventory;
    int errnum;    /* the first I/O error */
    uint16_t fill; /* the fill being streamed, and whether it may replace */
    bool replaces;
    bool once; /* its bytes come a single time: see mos_fs_driver.contents */
    /* What finish() would come to, when that is known without the bytes; 0: it is not. */
    uint64_t known_bytes, known_content;
};

/* A volume that is changed in place.  What is not asked for stays byte for byte. */
struct mos_editor {
    /* Gives a file new content, or adds it with these permission bits (folders on its way too).
     * *before: its size, or UINT64_MAX where there was none.  Errors go to ctx->error; the image is
     * to be given up then. */
    bool (*put)(struct mos_editor *editor, const char *path, struct mos_io *content, uint16_t mode,
                uint64_t *before);
    bool (*remove)(struct mos_editor *editor, const char *path, uint64_t *before);
    bool (*finish)(struct mos_editor *editor);
};

/* Keys of a volume that not every file system has a use for. */
enum {
    MOS_HEEDS_LABEL = 1,
    MOS_HEEDS_ID = 2,
    MOS_HEEDS_RESERVED = 4,
    MOS_HEEDS_INODES = 8,
    MOS_HEEDS_JOURNAL = 16,
    MOS_HEEDS_COMPRESS = 32,
};

/* What loaders of one dialect (by its name) know of a file system. */
struct mos_fs_loader {
    const char *dialect; /* NULL: the row behind the last */
    const char *word;    /* for it in names of commands and in what is printed */
    const char *symbol;  /* of the configuration of a loader that can read it */
    bool optional;       /* most loaders are built without it: their table of commands decides */
    bool marks_kinds;    /* its listing says which names are folders and links */
    bool folders_exist;  /* a folder counts where a script asks for a file */
};

/* A symbol of the kernel's configuration besides the driver's own. */
struct mos_fs_need {
    const char *symbol; /* NULL: the row behind the last */
    const char *why;    /* what happens without it, a sentence */
};

struct mos_fs_driver {
    const char *name;      /* as in `volume: {kind: …}` */
    const char *family;    /* the name that kinds of one on-disk form share */
    const char *partition; /* the purpose of its partitions: see disk/table.h */

    /* ---- for the kernel ---- */
    const char *kernel;      /* what Linux calls it where it is mounted; NULL: it mounts none */
    const char *kernel_also; /* another name that Linux takes for it, or NULL */
    const char *symbol;      /* of the configuration of a kernel that can use it, or NULL */
    /* What a volume made as wished needs besides; NULL: nothing. */
    const struct mos_fs_need *(*needs)(const struct mos_volume_wish *wish);
    const char *const *options; /* mount options of its own, NULL-terminated; NULL: not known */

    /* ---- for the loader, and the ROM before it ---- */
    const struct mos_fs_loader *loaders; /* NULL: no loader reads it */
    bool firmware_reads;                 /* ROMs and UEFI firmware do */

    /* ---- what it can hold ---- */
    bool folds_case; /* names that differ in case only are one */
    bool no_owners;  /* files have neither owner nor mode: no root of a system */
    bool read_only;  /* it is written once; a running system only reads it */
    unsigned heeds;  /* MOS_HEEDS_…: which keys of a volume mean something to it */

    /* ---- its volumes ---- */
    /* The smallest region it can live in, bytes; for the message when a region is smaller. */
    uint64_t (*smallest)(uint32_t sector);
    /* The largest region it can fill; NULL: any. */
    uint64_t (*largest)(uint32_t sector);
    size_t longest_label; /* bytes */
    uint32_t units[2];    /* least and most bytes of an allocation unit, powers of two */
    /* Starts a volume of wish->size bytes (at least smallest()).  Everything lives in ctx->arena.
     */
    struct mos_volume_base *(*begin)(struct mos_ctx *ctx, struct mos_io *io,
                                     const struct mos_volume_wish *wish);
    /* A volume that is counted, between two fills, to go on with in ctx->arena; the original must
     * stay.  The wish may differ in what finish() alone looks at: label, identities, spare and
     * reserved room, inodes.  NULL: the driver cannot. */
    struct mos_volume_base *(*copy)(struct mos_ctx *ctx, const struct mos_volume_base *of,
                                    const struct mos_volume_wish *wish);
    /* Where its content goes; between sinks of different fills set base->fill and ->replaces. */
    struct mos_sink (*sink)(struct mos_volume_base *volume);
    /* A driver whose sink only settles what stays, from names alone: starts the second coming of
     * all fills but those that were told to come `once`; bytes are taken now, and needed even when
     * the volume is only counted.  NULL: sink() is all there is. */
    struct mos_sink (*contents)(struct mos_volume_base *volume);
    /* … and what known_bytes hang on, before contents(); false: it cannot be told. */
    bool (*digest)(const struct mos_volume_base *volume, uint8_t key[MOS_SHA256_SIZE]);
    /* Writes what is left.  false with ctx->error on I/O errors; a volume that does not fit is no
     * error: result->fits is false and the region's bytes are meaningless. */
    bool (*finish)(struct mos_volume_base *volume, struct mos_volume_result *result);
    /* What probe() will tell of a volume that was made as wished: its label and identifier. */
    void (*foresee)(struct mos_arena *arena, const struct mos_volume_wish *wish,
                    struct mos_volume_info *out);
    /* Looks at a volume; false: it is none of this kind. */
    bool (*probe)(struct mos_io *io, struct mos_arena *arena, struct mos_volume_info *out);
    /* Streams everything that lies in a volume, the root folder first, as far as it is sound.
     * false: the sink stopped it, or ctx->error. */
    bool (*stream)(struct mos_ctx *ctx, struct mos_io *io, const struct mos_read_request *request);
    /* Starts to change a volume; NULL: *why it cannot be.  date: of what is added. */
    struct mos_editor *(*edit)(struct mos_ctx *ctx, struct mos_io *io, int64_t date,
                               const char **why);
};

extern const struct mos_fs_driver mos_fs_ext4, mos_fs_fat32, mos_fs_fat16, mos_fs_fat12,
    mos_fs_swap, mos_fs_cpio, mos_fs_squashfs;

const struct mos_fs_driver *mos_fs_find(const char *name); /* NULL: not known */
const struct mos_fs_driver *mos_fs_at(size_t index);       /* NULL behind the last */
/* What loaders of a dialect know of it; NULL: they cannot read it.  fs may be NULL. */
const struct mos_fs_loader *mos_fs_loader(const struct mos_fs_driver *fs, const char *dialect);
/* What lies in a region, asked of every driver; out->driver is NULL for what is only recognised. */
bool mos_fs_probe(struct mos_io *io, struct mos_arena *arena, struct mos_volume_info *out);
/* foresee() of a volume with a label of up to 16 bytes and a UUID. */
void mos_fs_foresee_uuid(struct mos_arena *arena, const struct mos_volume_wish *wish,
                         struct mos_volume_info *out);
/* foreign.c: file systems and containers of others, by their superblocks. */
bool mos_fs_foreign(struct mos_io *io, struct mos_arena *arena, struct mos_volume_info *out);

/* Writes unless counting or after an error; remembers the first error.  What lies past the region
 * is dropped: the volume does not fit then, which finish() reports. */
void mos_volume_write(struct mos_volume_base *v, const void *bytes, size_t length, uint64_t offset);
/* The same with zeros: what was replaced must not stay behind in an image. */
void mos_volume_zero(struct mos_volume_base *v, uint64_t offset, uint64_t length);

#endif
