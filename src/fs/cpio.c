/* Ramdisks: cpio archives of the "newc" form (the kernel's
 * Documentation/driver-api/early-userspace/buffer-format.rst).  Entries are written as they come;
 * a later one of the same name wins when it is unpacked. */
#include "fs/fs.h"

#include "base/bytes.h"
#include "content/content.h"

#include <assert.h>
#include <stdio.h>
#include <string.h>

enum { HEADER = 110, FIELDS = 13, LONGEST_PATH = 4096, TRAILER_UNIT = 512, PIECE = 1 << 16 };
enum { INO, MODE, UID, GID, NLINK, MTIME, SIZE, MAJOR, MINOR, RMAJOR, RMINOR, NAMESIZE, CHECK };

struct cpio {
    struct mos_volume_base base;
    uint64_t at;
    struct mos_vec
        headers; /* of uint64_t: where each node's header lies, plus one; 0: not written */
    uint32_t current;
    struct mos_entry entry;
    struct mos_buf path;
    enum mos_inv_result mode;
    uint64_t start; /* of the current file's data */
};

static uint64_t smallest(uint32_t sector) {
    (void)sector;
    return TRAILER_UNIT;
}

static struct mos_volume_base *begin(struct mos_ctx *ctx, struct mos_io *io,
                                     const struct mos_volume_wish *wish) {
    struct cpio *v = mos_alloc(ctx->arena, sizeof *v);
    v->base = (struct mos_volume_base){.driver = &mos_fs_cpio, .ctx = ctx, .io = io, .wish = *wish};
    v->base.inventory = mos_inventory_new(ctx->arena, wish->date, false);
    v->headers = mos_vec_make(ctx->arena, sizeof(uint64_t));
    v->path.arena = ctx->arena;
    return &v->base;
}

static uint32_t type_bits(uint8_t type) {
    static const uint32_t bits[] = {
        [MOS_ENTRY_FILE] = 0100000,  [MOS_ENTRY_FOLDER] = 0040000, [MOS_ENTRY_LINK] = 0120000,
        [MOS_ENTRY_CHAR] = 0020000,  [MOS_ENTRY_BLOCK] = 0060000,  [MOS_ENTRY_FIFO] = 0010000,
        [MOS_ENTRY_SOCKET] = 0140000};
    return bits[type];
}

static void put_header(struct cpio *v, const uint32_t f[FIELDS], const char *path) {
    assert(path);
    char text[HEADER + 1];
    size_t n = (size_t)snprintf(text, sizeof text, "070701");
    for (size_t i = 0; i < FIELDS; i++)
        n += (size_t)snprintf(text + n, sizeof text - n, "%08x", f[i]);
    mos_volume_write(&v->base, text, HEADER, v->at);
    mos_volume_write(&v->base, path, strlen(path) + 1, v->at + HEADER);
    v->at = mos_round_up(v->at + HEADER + strlen(path) + 1, 4);
}

static uint64_t *header_of(struct cpio *v, uint32_t index) {
    assert(index < v->base.inventory->count);
    while (v->headers.count <= index)
        mos_vec_push(&v->headers);
    return mos_vec_at(&v->headers, index);
}

static void write_node(struct cpio *v, uint32_t index, uint32_t inode, uint32_t links,
                       uint64_t size) {
    const struct mos_inv_node *n = mos_inv_node(v->base.inventory, index);
    const struct mos_inv_node *own =
        n->type == MOS_ENTRY_HARD_LINK ? mos_inv_node(v->base.inventory, n->link_to) : n;
    const char *path = mos_inv_path(v->base.ctx->arena, v->base.inventory, index);
    uint32_t f[FIELDS] = {[INO] = inode,
                          [MODE] = type_bits(own->type) | own->mode,
                          [UID] = own->uid,
                          [GID] = own->gid,
                          [NLINK] = links,
                          [MTIME] = (uint32_t)own->mtime,
                          [SIZE] = (uint32_t)size,
                          [RMAJOR] = own->device >> 20,
                          [RMINOR] = own->device & 0xfffff};
    path = index ? path + 1 : "."; /* without the slash in front */
    f[NAMESIZE] = (uint32_t)strlen(path) + 1;
    *header_of(v, index) = v->at + 1;
    put_header(v, f, path);
}

/* Folders above an entry come before it, also those that nobody described. */
static void write_folders(struct cpio *v, uint32_t index) {
    if (*header_of(v, index))
        return;
    if (index)
        write_folders(v, mos_inv_node(v->base.inventory, index)->parent);
    write_node(v, index, index + 1, 2, 0);
}

/* A second name: the first is told that it is not alone. */
static void write_hard_link(struct cpio *v, uint32_t index) {
    const struct mos_inv_node *n = mos_inv_node(v->base.inventory, index);
    uint32_t links = mos_inv_node(v->base.inventory, n->link_to)->links;
    uint64_t first = *header_of(v, n->link_to);
    char text[9];
    snprintf(text, sizeof text, "%08x", links);
    if (first)
        mos_volume_write(&v->base, text, 8, first - 1 + 6 + 8 * NLINK);
    write_node(v, index, n->link_to + 1, links, 0);
}

static bool begin_entry(void *self, const struct mos_entry *entry) {
    struct cpio *v = self;
    const char *reason = entry->size > UINT32_MAX              ? "is larger than 4 GiB"
                         : entry->attributes_length            ? "has extended attributes"
                         : strlen(entry->path) >= LONGEST_PATH ? "has a path that is too long"
                                                               : NULL;
    v->mode = MOS_INV_REFUSED;
    if (reason) {
        mos_inv_refuse(v->base.inventory, entry->path, v->base.fill, reason);
        return true;
    }
    v->mode = mos_inv_add(v->base.inventory, entry, v->base.fill, v->base.replaces, &v->current);
    if (v->mode == MOS_INV_REPLACED)
        v->mode = mos_inv_replace(v->base.inventory, v->current, entry, v->base.fill);
    v->entry = *entry;
    v->path.length = 0;
    mos_buf_text(&v->path, entry->path);
    v->entry.path = mos_buf_string(&v->path);
    if (entry->type == MOS_ENTRY_FOLDER && v->mode != MOS_INV_REFUSED) {
        if (v->current)
            write_folders(v, mos_inv_node(v->base.inventory, v->current)->parent);
        write_node(v, v->current, v->current + 1, 2, 0);
        return true;
    }
    if (v->mode != MOS_INV_NEW)
        return true;
    write_folders(v, mos_inv_node(v->base.inventory, v->current)->parent);
    if (entry->type == MOS_ENTRY_HARD_LINK) {
        write_hard_link(v, v->current);
    } else if (entry->type == MOS_ENTRY_LINK) {
        size_t length = strlen(entry->target);
        write_node(v, v->current, v->current + 1, 1, length);
        mos_volume_write(&v->base, entry->target, length, v->at);
        v->at = mos_round_up(v->at + length, 4);
    } else {
        write_node(v, v->current, v->current + 1, 1, entry->size);
        v->start = v->at;
        v->at = mos_round_up(v->at + entry->size, 4);
    }
    return true;
}

static bool add_data(void *self, uint64_t offset, const void *bytes, size_t length) {
    struct cpio *v = self;
    if (v->mode == MOS_INV_NEW && bytes)
        mos_volume_write(&v->base, bytes, length, v->start + offset);
    return true;
}

static bool end_entry(void *self, uint64_t sum) {
    struct cpio *v = self;
    if (v->mode == MOS_INV_COMPARE)
        mos_inv_compare(v->base.inventory, v->current, &v->entry, sum, v->base.fill);
    else if (v->mode == MOS_INV_NEW && v->entry.type == MOS_ENTRY_FILE)
        mos_inv_node(v->base.inventory, v->current)->sum = sum;
    return true;
}

static struct mos_sink sink(struct mos_volume_base *volume) {
    return (struct mos_sink){volume, begin_entry, add_data, end_entry};
}

static bool finish(struct mos_volume_base *base, struct mos_volume_result *result) {
    struct cpio *v = (struct cpio *)base;
    uint32_t trailer[FIELDS] = {[NLINK] = 1, [NAMESIZE] = 11};
    put_header(v, trailer, "TRAILER!!!");
    v->at = mos_round_up(v->at, TRAILER_UNIT);
    uint64_t need = v->at + base->wish.spare;
    *result = (struct mos_volume_result){
        .fits = need <= base->wish.size,
        .block_size = TRAILER_UNIT,
        .content = v->at,
        .free = v->at < base->wish.size ? base->wish.size - v->at : 0,
        .spare = base->wish.spare,
        .entries = base->inventory->count,
        .spans = mos_vec_make(base->ctx->arena, sizeof(struct mos_span))};
    if (!result->fits) {
        result->missing = need - base->wish.size;
        return true;
    }
    *(struct mos_span *)mos_vec_push(&result->spans) = (struct mos_span){0, v->at, MOS_SPAN_DATA};
    if (v->at < base->wish.size)
        *(struct mos_span *)mos_vec_push(&result->spans) =
            (struct mos_span){v->at, base->wish.size - v->at, MOS_SPAN_FREE};
    return base->errnum ? mos_fail(base->ctx->error, MOS_ERROR_SYSTEM, base->errnum,
                                   "Cannot write the image")
                        : true;
}

/* ---- reading ---- */

/* Takes a header apart; false: it is none. */
static bool parse(const char *text, uint32_t f[FIELDS]) {
    if (memcmp(text, "070701", 6) != 0 && memcmp(text, "070702", 6) != 0)
        return false;
    for (size_t i = 0; i < FIELDS; i++) {
        f[i] = 0;
        for (size_t k = 0; k < 8; k++) {
            char c = text[6 + 8 * i + k];
            uint32_t digit = c >= '0' && c <= '9'   ? (uint32_t)(c - '0')
                             : c >= 'a' && c <= 'f' ? (uint32_t)(c - 'a' + 10)
                             : c >= 'A' && c <= 'F' ? (uint32_t)(c - 'A' + 10)
                                                    : 16;
            if (digit > 15)
                return false;
            f[i] = f[i] << 4 | digit;
        }
    }
    return f[NAMESIZE] && f[NAMESIZE] <= LONGEST_PATH;
}

static bool probe(struct mos_io *io, struct mos_arena *arena, struct mos_volume_info *out) {
    char text[HEADER];
    uint32_t f[FIELDS];
    if (io->size < HEADER || mos_io_read(io, text, HEADER, 0) || !parse(text, f))
        return false;
    *out = (struct mos_volume_info){.kind = "cpio",
                                    .label = "",
                                    .id = "",
                                    .size = io->size,
                                    .names = mos_vec_make(arena, sizeof(char *))};
    return true;
}

static bool type_of(uint32_t mode, enum mos_entry_type *type) {
    for (uint8_t t = MOS_ENTRY_FILE; t <= MOS_ENTRY_SOCKET; t++)
        if (t != MOS_ENTRY_HARD_LINK && type_bits(t) == (mode & 0170000)) {
            *type = (enum mos_entry_type)t;
            return true;
        }
    return false;
}

static bool stream_content(uint8_t *piece, struct mos_io *io, uint64_t at, uint64_t size,
                           const struct mos_read_request *request) {
    struct mos_runs runs = {.sink = request->sink};
    uint64_t sum;
    for (uint64_t done = 0; done < size;) {
        size_t n = (size_t)mos_min(PIECE, size - done);
        if (mos_io_read(io, piece, n, at + done)) {
            mos_volume_lost(request, NULL, "The ramdisk cannot be read at byte %llu.",
                            (unsigned long long)(at + done));
            break;
        }
        if (!mos_runs_add(&runs, piece, n))
            return false;
        done += n;
    }
    return mos_runs_seek(&runs, size) && mos_runs_end(&runs, &sum) &&
           request->sink->end(request->sink->self, sum);
}

static bool stream_one(uint8_t *piece, struct mos_io *io, const uint32_t f[FIELDS],
                       const char *path, uint64_t data, const struct mos_read_request *request) {
    struct mos_entry e = {.path = path,
                          .mode = (uint16_t)(f[MODE] & 07777),
                          .uid = f[UID],
                          .gid = f[GID],
                          .mtime = f[MTIME],
                          .major = f[RMAJOR],
                          .minor = f[RMINOR]};
    char target[LONGEST_PATH];
    if (!type_of(f[MODE], &e.type)) {
        mos_volume_problem(request, "/%s is of no known type.", path);
        return true;
    }
    if (e.type == MOS_ENTRY_LINK) {
        if (f[SIZE] >= sizeof target || mos_io_read(io, target, f[SIZE], data)) {
            mos_volume_lost(request, path, "/%s: this link's target cannot be read.", path);
            return true;
        }
        target[f[SIZE]] = 0;
        e.target = target;
    }
    if (e.type == MOS_ENTRY_FILE)
        e.size = f[SIZE];
    if (!request->sink->entry(request->sink->self, &e))
        return false;
    if (e.type == MOS_ENTRY_FILE && (!request->wants || request->wants(request->self, &e)))
        return stream_content(piece, io, data, e.size, request);
    return request->sink->end(request->sink->self, 0);
}

static bool stream(struct mos_ctx *ctx, struct mos_io *io, const struct mos_read_request *request) {
    struct mos_buf path = {.arena = ctx->arena};
    char text[HEADER], name[LONGEST_PATH + 1];
    uint32_t f[FIELDS];
    uint8_t *piece = mos_alloc(ctx->arena, PIECE); /* one for all: a ramdisk may have many files */
    for (uint64_t at = 0; at + HEADER <= io->size;) {
        uint64_t data;
        if (mos_io_read(io, text, HEADER, at) || !parse(text, f) ||
            mos_io_read(io, name, f[NAMESIZE], at + HEADER)) {
            mos_volume_lost(request, NULL, "The ramdisk is damaged at byte %llu.",
                            (unsigned long long)at);
            return true;
        }
        name[f[NAMESIZE]] = 0;
        data = mos_round_up(at + HEADER + f[NAMESIZE], 4);
        at = mos_round_up(data + f[SIZE], 4);
        if (strcmp(name, "TRAILER!!!") == 0)
            return true;
        if (data > io->size || f[SIZE] > io->size - data) {
            mos_volume_lost(request, NULL, "/%s ends past the ramdisk.", name);
            return true;
        }
        const char *clean = mos_entry_path(&path, name);
        if (!clean)
            mos_volume_problem(request, "The name %s leaves the ramdisk; it is left out.", name);
        else if (!stream_one(piece, io, f, clean, data, request))
            return false;
    }
    mos_volume_lost(request, NULL, "The ramdisk has no end mark.");
    return true;
}

const struct mos_fs_driver mos_fs_cpio = {.name = "cpio",
                                          .family = "cpio",
                                          .partition = "raw",
                                          .smallest = smallest,
                                          .units = {4, 4},
                                          .begin = begin,
                                          .sink = sink,
                                          .finish = finish,
                                          .probe = probe,
                                          .stream = stream};
