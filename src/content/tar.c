/* What is taken out of a volume, as an archive: owners, modes, links and attributes stay. */
#include "content/content.h"

#include "base/bytes.h"
#include "base/out.h"
#include "base/text.h"
#include "content/attributes.h"
#include "content/library.h"

#include <errno.h>
#include <string.h>

struct mos_tar {
    struct mos_ctx *ctx;
    const char *path;
    struct mos_out out;
    int errnum;
    uint64_t offset; /* of the file */
    uint64_t at;     /* of the entry's data */
    uint64_t size;
    struct archive *a;
};

static la_ssize_t write_block(struct archive *a, void *self, const void *bytes, size_t length) {
    struct mos_tar *t = self;
    t->errnum = mos_out_write(&t->out, bytes, length, t->offset);
    if (t->errnum) {
        archive_set_error(a, t->errnum, "%s", strerror(t->errnum));
        return -1;
    }
    t->offset += length;
    return (la_ssize_t)length;
}

static bool failed(struct mos_tar *t) {
    const char *text = archive_error_string(t->a);
    return mos_fail(t->ctx->error, MOS_ERROR_SYSTEM, t->errnum, "Cannot write %s%s%s", t->path,
                    t->errnum || !text ? "" : ": ", t->errnum || !text ? "" : text);
}

/* An access control list back from the kernel's form. */
static void put_acl(struct archive_entry *e, int type, const struct mos_attribute *x) {
    for (size_t at = 4; at + 8 <= x->value_length; at += 8) {
        static const struct {
            uint16_t number;
            int tag;
        } tags[] = {{0x01, ARCHIVE_ENTRY_ACL_USER_OBJ},  {0x02, ARCHIVE_ENTRY_ACL_USER},
                    {0x04, ARCHIVE_ENTRY_ACL_GROUP_OBJ}, {0x08, ARCHIVE_ENTRY_ACL_GROUP},
                    {0x10, ARCHIVE_ENTRY_ACL_MASK},      {0x20, ARCHIVE_ENTRY_ACL_OTHER}};
        for (size_t i = 0; i < sizeof tags / sizeof *tags; i++)
            if (tags[i].number == mos_le16(x->value + at))
                archive_entry_acl_add_entry(e, type, mos_le16(x->value + at + 2) & 7, tags[i].tag,
                                            (int)mos_le32(x->value + at + 4), NULL);
    }
}

static void put_attributes(struct archive_entry *e, const struct mos_entry *entry) {
    struct mos_attribute x;
    char name[256];
    for (size_t at = 0; mos_attribute_next(entry->attributes, entry->attributes_length, &at, &x);) {
        if (x.name_length >= sizeof name)
            continue;
        memcpy(name, x.name, x.name_length);
        name[x.name_length] = 0;
        if (strcmp(name, "system.posix_acl_access") == 0)
            put_acl(e, ARCHIVE_ENTRY_ACL_TYPE_ACCESS, &x);
        else if (strcmp(name, "system.posix_acl_default") == 0)
            put_acl(e, ARCHIVE_ENTRY_ACL_TYPE_DEFAULT, &x);
        else
            archive_entry_xattr_add_entry(e, name, x.value, x.value_length);
    }
}

static bool put_entry(void *self, const struct mos_entry *entry) {
    static const unsigned types[] = {[MOS_ENTRY_FILE] = AE_IFREG, [MOS_ENTRY_FOLDER] = AE_IFDIR,
                                     [MOS_ENTRY_LINK] = AE_IFLNK, [MOS_ENTRY_HARD_LINK] = AE_IFREG,
                                     [MOS_ENTRY_CHAR] = AE_IFCHR, [MOS_ENTRY_BLOCK] = AE_IFBLK,
                                     [MOS_ENTRY_FIFO] = AE_IFIFO, [MOS_ENTRY_SOCKET] = AE_IFSOCK};
    struct mos_tar *t = self;
    t->at = t->size = 0;
    if (entry->type == MOS_ENTRY_SOCKET)
        return true; /* no archive holds one */
    struct archive_entry *e = archive_entry_new();
    archive_entry_set_pathname(e, *entry->path ? entry->path : ".");
    archive_entry_set_filetype(e, types[entry->type]);
    archive_entry_set_perm(e, entry->mode);
    archive_entry_set_uid(e, (la_int64_t)entry->uid);
    archive_entry_set_gid(e, (la_int64_t)entry->gid);
    archive_entry_set_mtime(e, entry->mtime, (long)entry->mtime_ns);
    if (entry->type == MOS_ENTRY_FILE)
        archive_entry_set_size(e, (la_int64_t)(t->size = entry->size));
    else if (entry->type == MOS_ENTRY_LINK)
        archive_entry_set_symlink(e, entry->target);
    else if (entry->type == MOS_ENTRY_HARD_LINK)
        archive_entry_set_hardlink(e, entry->target);
    if (entry->type == MOS_ENTRY_CHAR || entry->type == MOS_ENTRY_BLOCK) {
        archive_entry_set_rdevmajor(e, entry->major);
        archive_entry_set_rdevminor(e, entry->minor);
    }
    put_attributes(e, entry);
    int r = archive_write_header(t->a, e);
    archive_entry_free(e);
    return r == ARCHIVE_OK || r == ARCHIVE_WARN ? true : failed(t);
}

static bool put(struct mos_tar *t, const void *bytes, size_t length) {
    t->at += length;
    return archive_write_data(t->a, bytes, length) == (la_ssize_t)length ? true : failed(t);
}

static bool put_zeros(struct mos_tar *t, uint64_t to) {
    static const char zeros[65536];
    while (t->at < to)
        if (!put(t, zeros, (size_t)mos_min(sizeof zeros, to - t->at)))
            return false;
    return true;
}

static bool put_data(void *self, uint64_t offset, const void *bytes, size_t length) {
    struct mos_tar *t = self;
    return put_zeros(t, offset) && put(t, bytes, length);
}

static bool put_end(void *self, uint64_t sum) {
    struct mos_tar *t = self;
    (void)sum;
    return put_zeros(t, t->size);
}

struct mos_tar *mos_tar_new(struct mos_ctx *ctx, const char *path, struct mos_sink *sink) {
    struct mos_tar *t = mos_alloc(ctx->arena, sizeof *t);
    *t = (struct mos_tar){.ctx = ctx, .path = path};
    if (!mos_out_open(&t->out, ctx, path, true))
        return NULL;
    t->a = archive_write_new();
    if (!t->a) {
        mos_out_abandon(&t->out);
        mos_fail(ctx->error, MOS_ERROR_SYSTEM, 0, "Cannot write %s: %s", path,
                 mos_archive_missing() ? mos_archive_missing() : "no memory");
        return NULL;
    }
    archive_write_set_format_pax(t->a);
    archive_write_set_bytes_per_block(t->a, 1 << 20);
    archive_write_set_bytes_in_last_block(t->a, 1);
    if (mos_text_ends(path, ".gz"))
        archive_write_add_filter_gzip(t->a);
    else if (mos_text_ends(path, ".xz"))
        archive_write_add_filter_xz(t->a);
    else if (mos_text_ends(path, ".zst"))
        archive_write_add_filter_zstd(t->a);
    archive_write_set_options(t->a, "gzip:!timestamp");
    if (archive_write_open(t->a, t, NULL, write_block, NULL) != ARCHIVE_OK) {
        failed(t);
        mos_tar_end(t, false);
        return NULL;
    }
    *sink = (struct mos_sink){t, put_entry, put_data, put_end};
    return t;
}

bool mos_tar_end(struct mos_tar *t, bool good) {
    if (good && archive_write_close(t->a) != ARCHIVE_OK)
        good = failed(t);
    archive_write_free(t->a);
    if (good)
        return mos_out_commit(&t->out, t->offset, true);
    mos_out_abandon(&t->out);
    return false;
}
