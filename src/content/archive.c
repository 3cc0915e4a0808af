#include "content/content.h"

#include "base/bytes.h"
#include "content/attributes.h"
#include "content/library.h"
#include "content/reader.h"
#include "content/tap.h"

#include <errno.h>
#include <stdlib.h>
#include <string.h>

enum { READ_SIZE = 1 << 20 };

/* The file of an archive, read once from front to back. */
struct source {
    struct mos_ctx *ctx;
    int file;
    uint64_t offset, size;
    struct mos_tap *tap; /* NULL: nobody wants its hash */
};

static int read_block(void *self, void *to, size_t room, size_t *got) {
    struct source *s = self;
    int e = s->ctx->host->pread(s->ctx->host, s->file, to, room, s->offset, got);
    if (e)
        return e;
    if (s->tap && *got)
        mos_tap_feed(s->tap, to, *got);
    s->offset += *got;
    if (s->ctx->progress)
        s->ctx->progress(s->ctx->progress_self, "reading", s->offset, s->size);
    return 0;
}

static enum mos_entry_type type_of(unsigned type) {
    switch (type) {
    case AE_IFDIR:
        return MOS_ENTRY_FOLDER;
    case AE_IFLNK:
        return MOS_ENTRY_LINK;
    case AE_IFCHR:
        return MOS_ENTRY_CHAR;
    case AE_IFBLK:
        return MOS_ENTRY_BLOCK;
    case AE_IFIFO:
        return MOS_ENTRY_FIFO;
    case AE_IFSOCK:
        return MOS_ENTRY_SOCKET;
    default:
        return MOS_ENTRY_FILE;
    }
}

static void bad_path(struct mos_ctx *ctx, struct mos_place place, const char *archive,
                     const char *path) {
    struct mos_finding *f = mos_find(&ctx->findings, MOS_RULE_PIECE_PATH,
                                     "Archive %s has an entry that leaves it: %s.", archive, path);
    mos_finding_at(&ctx->findings, f, place);
    mos_finding_try(&ctx->findings, f, "Make the archive again without .. in its names.");
}

/* Reused for every entry, so that an archive's memory does not grow with its names. */
struct scratch {
    struct mos_buf path, target, attributes;
    struct mos_attribute_set set;
    uint64_t unnumbered; /* entries of access lists that name somebody without a number */
};

/* One access control list in the kernel's form; nothing when it says no more than the mode.  *mask:
 * what it says of its mask, which is what the mode's bits for the group mean then. */
static void take_acl(struct archive_entry *e, int which, const char *name,
                     struct mos_attribute_set *set, int *mask, struct scratch *scratch) {
    static const struct {
        int tag;
        uint16_t number;
    } tags[] = {{ARCHIVE_ENTRY_ACL_USER_OBJ, 0x01},  {ARCHIVE_ENTRY_ACL_USER, 0x02},
                {ARCHIVE_ENTRY_ACL_GROUP_OBJ, 0x04}, {ARCHIVE_ENTRY_ACL_GROUP, 0x08},
                {ARCHIVE_ENTRY_ACL_MASK, 0x10},      {ARCHIVE_ENTRY_ACL_OTHER, 0x20}};
    struct mos_buf b = {.arena = set->items.arena}; /* lists are rare */
    int type, permissions, tag, id;
    const char *who;
    if (archive_entry_acl_reset(e, which) <= 3 && which == ARCHIVE_ENTRY_ACL_TYPE_ACCESS)
        return;
    mos_buf_add(&b, "\2\0\0", 4);
    /* their order in the kernel's form is that of the tags, then of the numbers */
    for (size_t t = 0; t < sizeof tags / sizeof *tags; t++) {
        for (int64_t after = -1;;) {
            int64_t next = INT64_MAX;
            uint16_t allowed = 0;
            archive_entry_acl_reset(e, which);
            while (archive_entry_acl_next(e, which, &type, &permissions, &tag, &id, &who) ==
                   ARCHIVE_OK) {
                bool named = tags[t].number == 0x02 || tags[t].number == 0x08;
                if (named &&
                    id < 0) { /* a name: a number where one could stand, or nobody we know */
                    char *end = NULL;
                    long number = who && *who ? strtol(who, &end, 10) : -1;
                    if (number < 0 || !end || *end) {
                        scratch->unnumbered += after < 0 && tag == tags[t].tag;
                        continue;
                    }
                    id = (int)number;
                }
                int64_t key = named ? (int64_t)(uint32_t)id : 0;
                if (tag == tags[t].tag && key > after && key < next) {
                    next = key;
                    allowed = (uint16_t)(permissions & 7);
                }
            }
            if (next == INT64_MAX)
                break;
            bool named = tags[t].number == 0x02 || tags[t].number == 0x08;
            uint8_t raw[8];
            if (tags[t].number == 0x10)
                *mask = allowed;
            mos_put_le16(raw, tags[t].number);
            mos_put_le16(raw + 2, allowed);
            mos_put_le32(raw + 4, named ? (uint32_t)next : UINT32_MAX);
            mos_buf_add(&b, raw, sizeof raw);
            after = next;
        }
    }
    if (b.length > 4)
        mos_attribute_add(set, name, strlen(name), b.data, b.length);
}

/* What a list in the kernel's form says of its mask; -1: nothing. */
static int mask_of(const uint8_t *list, size_t length) {
    for (size_t at = 4; at + 8 <= length; at += 8)
        if (mos_le16(list + at) == 0x10)
            return mos_le16(list + at + 2) & 7;
    return -1;
}

static void take_attributes(struct archive_entry *e, struct scratch *scratch,
                            struct mos_entry *out) {
    const char *name;
    const void *value;
    size_t length;
    scratch->attributes.length = 0;
    bool lists = archive_entry_acl_types(e) != 0;
    if (archive_entry_xattr_reset(e) <= 0 && !lists)
        return;
    struct mos_attribute_set *set = &scratch->set;
    mos_attribute_reset(set);
    int mask = -1, ignored;
    while (archive_entry_xattr_next(e, &name, &value, &length) == ARCHIVE_OK) {
        if (!name)
            continue;
        mos_attribute_add(set, name, strlen(name), value, length);
        if (strcmp(name, "system.posix_acl_access") == 0) { /* as it is: better than the text */
            mask = mask_of(value, length);
            lists = false;
        }
    }
    if (lists) {
        take_acl(e, ARCHIVE_ENTRY_ACL_TYPE_ACCESS, "system.posix_acl_access", set, &mask, scratch);
        take_acl(e, ARCHIVE_ENTRY_ACL_TYPE_DEFAULT, "system.posix_acl_default", set, &ignored,
                 scratch);
    }
    if (mask >= 0)
        out->mode = (uint16_t)((out->mode & ~070) | mask << 3);
    mos_attribute_pack(set, &scratch->attributes);
    out->attributes = (const uint8_t *)scratch->attributes.data;
    out->attributes_length = scratch->attributes.length;
}

/* Fills *out; false when the entry must be left out. */
static bool convert(struct mos_ctx *ctx, struct archive_entry *e, const char *archive,
                    struct mos_place place, struct scratch *scratch, struct mos_entry *out) {
    const char *raw = archive_entry_pathname(e), *hard = archive_entry_hardlink(e);
    const char *path = raw ? mos_entry_path(&scratch->path, raw) : NULL;
    if (!path) {
        bad_path(ctx, place, archive, raw ? raw : "(a name that is no text)");
        return false;
    }
    *out = (struct mos_entry){
        .path = path,
        .type = hard ? MOS_ENTRY_HARD_LINK : type_of(archive_entry_filetype(e)),
        .mode = (uint16_t)(archive_entry_perm(e) & 07777),
        .uid = (uint64_t)archive_entry_uid(e), /* negative ones are nobody's, too */
        .gid = (uint64_t)archive_entry_gid(e),
        .mtime = archive_entry_mtime(e),
        .mtime_ns = (uint32_t)archive_entry_mtime_nsec(e),
        .size = hard ? 0 : (uint64_t)archive_entry_size(e),
        .major = (uint32_t)archive_entry_rdevmajor(e),
        .minor = (uint32_t)archive_entry_rdevminor(e),
    };
    if (out->mtime < 0 && out->mtime_ns) { /* the library gives a sign to the seconds only */
        out->mtime--;
        out->mtime_ns = 1000000000 - out->mtime_ns;
    }
    out->target = hard ? mos_entry_path(&scratch->target, hard) : archive_entry_symlink(e);
    if (hard && !out->target) {
        bad_path(ctx, place, archive, hard);
        return false;
    }
    take_attributes(e, scratch, out);
    return true;
}

/* An archive being streamed, and what became of it. */
struct stream {
    struct mos_ctx *ctx;
    const char *path;
    struct mos_place place;
    struct mos_reader *reader;
    struct mos_archive_result *result;
};

/* What is wrong with the user's file is a finding where somebody takes it for one. */
static bool damaged(struct stream *x, const char *why) {
    struct mos_ctx *ctx = x->ctx;
    if (!x->result || !x->place.source)
        return mos_fail(ctx->error, MOS_ERROR_USAGE, 0, "Cannot read archive %s: %s", x->path, why);
    struct mos_finding *f = mos_find(&ctx->findings, MOS_RULE_PIECE_FORMAT,
                                     "Archive %s cannot be read: %s.", x->path, why);
    mos_finding_at(&ctx->findings, f, x->place);
    mos_finding_try(&ctx->findings, f,
                    "Get the whole file again. Archives are tar, cpio or zip, plain or in gzip, "
                    "xz, zstd, bzip2 or lz4, and Debian packages.");
    x->result->damaged = true;
    return false;
}

static bool broken_off(struct stream *x) {
    int e = mos_reader_errnum(x->reader);
    return e ? mos_fail(x->ctx->error, MOS_ERROR_SYSTEM, e, "Cannot read archive %s", x->path)
             : damaged(x, mos_reader_problem(x->reader));
}

static bool stream_data(struct stream *x, const struct mos_entry *entry,
                        const struct mos_sink *sink) {
    struct archive *a = mos_reader_archive(x->reader);
    struct mos_runs runs = {.sink = sink};
    const void *block;
    size_t length;
    la_int64_t offset;
    int r;
    uint64_t sum, at = 0, end;
    while ((r = archive_read_data_block(a, &block, &length, &offset)) == ARCHIVE_OK) {
        if (offset < 0 || (uint64_t)offset < at || !mos_add((uint64_t)offset, length, &end) ||
            end > entry->size) /* everybody relies on the size */
            return damaged(
                x, mos_printf(x->ctx->arena, "its entry %s holds more than it says", entry->path));
        if (!mos_runs_seek(&runs, (uint64_t)offset) || !mos_runs_add(&runs, block, length))
            return false;
        at = end;
    }
    if (r != ARCHIVE_EOF)
        return broken_off(x);
    return mos_runs_seek(&runs, entry->size) && mos_runs_end(&runs, &sum) &&
           sink->end(sink->self, sum);
}

static bool stream_entries(struct stream *x, const struct mos_sink *sink) {
    struct mos_ctx *ctx = x->ctx;
    struct archive *a = mos_reader_archive(x->reader);
    struct archive_entry *e;
    struct scratch scratch = {{.arena = ctx->arena},
                              {.arena = ctx->arena},
                              {.arena = ctx->arena},
                              mos_attribute_set_make(ctx->arena)};
    int r;
    while ((r = archive_read_next_header(a, &e)) == ARCHIVE_OK || r == ARCHIVE_WARN) {
        struct mos_entry entry;
        if (!convert(ctx, e, x->path, x->place, &scratch, &entry))
            continue;
        if (entry.type == MOS_ENTRY_FILE && !archive_entry_size_is_set(e))
            return damaged(x,
                           mos_printf(ctx->arena,
                                      "it was packed into a pipe, and does not say how large %s is",
                                      entry.path));
        if (!sink->entry(sink->self, &entry))
            return false;
        bool ok =
            entry.type == MOS_ENTRY_FILE ? stream_data(x, &entry, sink) : sink->end(sink->self, 0);
        if (!ok)
            return false;
    }
    if (scratch.unnumbered)
        mos_vec_push_pointer(
            &ctx->not_proved,
            mos_printf(ctx->arena,
                       "archive %s: %llu entries of access control lists name users or groups "
                       "without a number; they are left out",
                       x->path, (unsigned long long)scratch.unnumbered));
    if (r == ARCHIVE_EOF && mos_reader_is_cut(x->reader))
        return damaged(x, "it is cut off");
    return r == ARCHIVE_EOF ? true : broken_off(x);
}

/* What lies behind the last entry belongs to the file, too. */
static bool read_rest(struct source *s, const char *path) {
    uint8_t *block = mos_alloc(s->ctx->arena, READ_SIZE);
    size_t got = 1;
    int e = 0;
    while (!e && got)
        e = read_block(s, block, READ_SIZE, &got);
    return e ? mos_fail(s->ctx->error, MOS_ERROR_SYSTEM, e, "Cannot read archive %s", path) : true;
}

bool mos_file_unchanged(struct mos_ctx *ctx, int file, const struct mos_file_info *before,
                        const char *path) {
    struct mos_file_info now;
    int e = ctx->host->file_info(ctx->host, file, &now);
    bool same = !e && now.size == before->size && now.inode == before->inode &&
                now.device == before->device && now.mtime_s == before->mtime_s &&
                now.mtime_ns == before->mtime_ns && now.ctime_s == before->ctime_s &&
                now.ctime_ns == before->ctime_ns;
    return same ? true
                : mos_fail(ctx->error, MOS_ERROR_SYSTEM, e,
                           "%s changed while it was read; do it again once it stays", path);
}

/* What is the same for a file and for bytes in memory. */
static bool stream_source(struct stream *x, const struct mos_packed_source *source,
                          const struct mos_sink *sink) {
    const char *why;
    x->reader = mos_reader_open(x->ctx, source, true, &why);
    bool ok = x->reader ? stream_entries(x, sink) : damaged(x, why);
    mos_reader_free(x->reader);
    return ok;
}

bool mos_archive_stream(struct mos_ctx *ctx, const char *path, struct mos_place place,
                        const struct mos_sink *sink, struct mos_archive_result *result) {
    struct mos_file_info info;
    struct source *s = mos_alloc(ctx->arena, sizeof *s);
    struct stream x = {ctx, path, place, NULL, result};
    s->ctx = ctx;
    int e = ctx->host->open(ctx->host, path, MOS_OPEN_READ, &s->file);
    if (e)
        return mos_fail(ctx->error, MOS_ERROR_SYSTEM, e, "Cannot open %s", path);
    e = ctx->host->file_info(ctx->host, s->file, &info);
    if (e)
        mos_fail(ctx->error, MOS_ERROR_SYSTEM, e, "Cannot read %s", path);
    s->size = info.size;
    bool hashes = result && result->wanted;
    if (result)
        *result = (struct mos_archive_result){.wanted = hashes, .info = info};
    if (hashes && !e)
        s->tap = mos_tap_new(ctx);
    const struct mos_packed_source source = {read_block, s};
    bool ok = !e && stream_source(&x, &source, sink);
    if (s->tap) {
        ok = ok && read_rest(s, path);
        result->hashed = mos_tap_end(s->tap, result->sha256) && ok;
    }
    ok = ok && mos_file_unchanged(ctx, s->file, &info, path);
    ctx->host->close(ctx->host, s->file);
    return ok;
}

struct memory {
    const uint8_t *bytes;
    size_t length, at;
};

static int read_memory(void *self, void *to, size_t room, size_t *got) {
    struct memory *m = self;
    *got = mos_min(room, m->length - m->at);
    memcpy(to, m->bytes + m->at, *got);
    m->at += *got;
    return 0;
}

bool mos_archive_stream_bytes(struct mos_ctx *ctx, const char *name, const void *bytes,
                              size_t length, struct mos_place place, const struct mos_sink *sink,
                              struct mos_archive_result *result) {
    struct stream x = {ctx, name, place, NULL, result};
    struct memory m = {bytes, length, 0};
    const struct mos_packed_source source = {read_memory, &m};
    if (result)
        *result = (struct mos_archive_result){0};
    return stream_source(&x, &source, sink);
}
