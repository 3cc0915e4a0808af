/* An entry of an index: two bytes that say what follows, then numbers of 7 bits a byte, the lowest
 * first, the highest bit set where another follows:
 *
 *     type | SAME_OWNER | SAME_MODE | SAME_DATE | ONE_RUN      HAS_…
 *     bytes shared with the path before, bytes of its own, those
 *     mode; owner, group; seconds (their change, its sign in the lowest bit), nanoseconds; size
 *     target: bytes, those, NUL;  major, minor of a device
 *     number of runs, each: bytes skipped, bytes;  sum of a file (le64)
 *     its text (size bytes);  attributes: bytes, those;  its SHA-256
 *
 * About 25 bytes for most entries.  What is read is checked in every detail. */
#include "content/index-form.h"

#include "base/bytes.h"
#include "base/hash.h"

#include <assert.h>
#include <string.h>

enum { TYPE = 7, SAME_OWNER = 8, SAME_MODE = 16, SAME_DATE = 32, ONE_RUN = 64 };
enum { HAS_TEXT = 1, HAS_ATTRIBUTES = 2, HAS_HASH = 4, HAS_ALL = 7, LONGEST_NUMBER = 10 };

static bool has_target(enum mos_entry_type type) {
    return type == MOS_ENTRY_LINK || type == MOS_ENTRY_HARD_LINK;
}

static bool is_device(enum mos_entry_type type) {
    return type == MOS_ENTRY_CHAR || type == MOS_ENTRY_BLOCK;
}

/* ---- writing ---- */

static void put_number(struct mos_buf *to, uint64_t n) {
    for (; n >= 0x80; n >>= 7)
        mos_buf_char(to, (char)(n | 0x80));
    mos_buf_char(to, (char)n);
}

size_t index_most(const struct index_record *r) {
    const struct mos_entry *e = &r->entry;
    return 2 + 14 * LONGEST_NUMBER + strlen(e->path) +
           (has_target(e->type) ? strlen(e->target) + 1 : 0) + 2 * LONGEST_NUMBER * r->runs.count +
           8 + (r->text ? (size_t)e->size : 0) + e->attributes_length + MOS_SHA256_SIZE + 1;
}

static void put_path(struct mos_buf *to, struct mos_buf *before, const char *path) {
    size_t length = strlen(path), shared = 0;
    while (shared < before->length && shared < length && before->data[shared] == path[shared])
        shared++;
    put_number(to, shared);
    put_number(to, length - shared);
    mos_buf_add(to, path + shared, length - shared);
    before->length = shared;
    mos_buf_add(before, path + shared, length - shared);
}

static bool is_one_run(const struct index_record *r) {
    const struct index_run *first = r->runs.items;
    return r->entry.size ? r->runs.count == 1 && !first->offset && first->length == r->entry.size
                         : !r->runs.count;
}

static void put_runs(struct mos_buf *to, const struct mos_vec *runs) {
    uint64_t end = 0;
    put_number(to, runs->count);
    for (size_t i = 0; i < runs->count; i++) {
        const struct index_run *run = mos_vec_at(runs, i);
        assert(run->offset >= end);
        put_number(to, run->offset - end);
        put_number(to, run->length);
        end = run->offset + run->length;
    }
}

static void put_date(struct mos_buf *to, struct index_state *s, const struct mos_entry *e) {
    uint64_t change = (uint64_t)e->mtime - (uint64_t)s->mtime, back = change >> 63;
    put_number(to, (back ? ~change : change) << 1 | back);
    put_number(to, e->mtime_ns);
    s->mtime = e->mtime;
    s->mtime_ns = e->mtime_ns;
}

static void put_owner(struct mos_buf *to, struct index_state *s, const struct mos_entry *e) {
    put_number(to, e->uid);
    put_number(to, e->gid);
    s->uid = e->uid;
    s->gid = e->gid;
}

void index_put(struct mos_buf *to, struct index_state *s, const struct index_record *r) {
    const struct mos_entry *e = &r->entry;
    bool same_owner = e->uid == s->uid && e->gid == s->gid, same_mode = e->mode == s->mode,
         same_date = e->mtime == s->mtime && e->mtime_ns == s->mtime_ns, one = is_one_run(r);
    assert((unsigned)e->type <= TYPE && to->capacity - to->length > index_most(r));
    mos_buf_char(to, (char)(e->type | (same_owner ? SAME_OWNER : 0) | (same_mode ? SAME_MODE : 0) |
                            (same_date ? SAME_DATE : 0) | (one ? ONE_RUN : 0)));
    mos_buf_char(to, (char)((r->text ? HAS_TEXT : 0) | (e->attributes_length ? HAS_ATTRIBUTES : 0) |
                            (e->sha256 ? HAS_HASH : 0)));
    put_path(to, &s->path, e->path);
    if (!same_mode)
        put_number(to, s->mode = e->mode);
    if (!same_owner)
        put_owner(to, s, e);
    if (!same_date)
        put_date(to, s, e);
    put_number(to, e->size);
    if (has_target(e->type)) {
        put_number(to, strlen(e->target));
        mos_buf_add(to, e->target, strlen(e->target) + 1);
    }
    if (is_device(e->type)) {
        put_number(to, e->major);
        put_number(to, e->minor);
    }
    if (!one)
        put_runs(to, &r->runs);
    if (e->type == MOS_ENTRY_FILE) {
        uint8_t sum[8];
        mos_put_le64(sum, r->sum);
        mos_buf_add(to, sum, sizeof sum);
    }
    if (r->text)
        mos_buf_add(to, r->text, (size_t)e->size);
    if (e->attributes_length) {
        put_number(to, e->attributes_length);
        mos_buf_add(to, e->attributes, e->attributes_length);
    }
    if (e->sha256)
        mos_buf_add(to, e->sha256, MOS_SHA256_SIZE);
}

/* ---- reading ---- */

struct form {
    const uint8_t *at, *end;
    bool bad;
};

/* A number of at most `most`, in as few bytes as it needs. */
static uint64_t get_number(struct form *f, uint64_t most) {
    uint64_t n = 0;
    for (unsigned shift = 0; shift < 64 && f->at < f->end; shift += 7) {
        uint8_t byte = *f->at++;
        n |= (uint64_t)(byte & 0x7f) << shift;
        if (byte & 0x80)
            continue;
        f->bad |= n > most || (shift && !byte) || (shift == 63 && byte > 1);
        return f->bad ? 0 : n;
    }
    f->bad = true;
    return 0;
}

/* So many bytes as they stand there, or NULL. */
static const uint8_t *get_bytes(struct form *f, uint64_t length) {
    const uint8_t *bytes = f->at;
    f->bad |= length > (uint64_t)(f->end - f->at);
    if (f->bad)
        return NULL;
    f->at += length;
    return bytes;
}

static void get_path(struct form *f, struct mos_buf *path) {
    uint64_t shared = get_number(f, path->length), own = get_number(f, SIZE_MAX);
    const uint8_t *bytes = get_bytes(f, own);
    f->bad |= bytes && memchr(bytes, 0, (size_t)own);
    if (f->bad)
        return;
    path->length = (size_t)shared;
    mos_buf_add(path, bytes, (size_t)own);
}

static void get_date(struct form *f, struct index_state *s) {
    uint64_t n = get_number(f, UINT64_MAX), change = n & 1 ? ~(n >> 1) : n >> 1;
    s->mtime = (int64_t)((uint64_t)s->mtime + change);
    s->mtime_ns = (uint32_t)get_number(f, UINT32_MAX);
}

static const char *get_target(struct form *f) {
    uint64_t length = get_number(f, SIZE_MAX - 1);
    const uint8_t *bytes = get_bytes(f, length + 1);
    f->bad |= bytes && bytes[length];
    return f->bad ? NULL : (const char *)bytes;
}

/* They follow each other and stay within the file. */
static void get_runs(struct form *f, struct mos_vec *runs, uint64_t size) {
    uint64_t count = get_number(f, UINT64_MAX), end = 0;
    for (uint64_t i = 0; i < count && !f->bad; i++) {
        uint64_t offset = end + get_number(f, size - end);
        uint64_t length = get_number(f, size - offset);
        f->bad |= !length;
        *(struct index_run *)mos_vec_push(runs) = (struct index_run){offset, length};
        end = offset + length;
    }
}

bool index_get(const struct mos_buf *form, size_t *at, struct index_state *s,
               struct index_record *r) {
    assert(*at <= form->length);
    const uint8_t *from = (const uint8_t *)form->data;
    struct form f = {from + *at, from + form->length, false};
    const uint8_t *head = get_bytes(&f, 2);
    struct mos_entry *e = &r->entry;
    r->runs.count = 0;
    if (!head || head[0] & 0x80 || head[1] & ~HAS_ALL)
        return false;
    get_path(&f, &s->path);
    if (!(head[0] & SAME_MODE))
        s->mode = (uint16_t)get_number(&f, UINT16_MAX);
    if (!(head[0] & SAME_OWNER)) {
        s->uid = get_number(&f, UINT64_MAX);
        s->gid = get_number(&f, UINT64_MAX);
    }
    if (!(head[0] & SAME_DATE))
        get_date(&f, s);
    *e = (struct mos_entry){.path = mos_buf_string(&s->path),
                            .type = (enum mos_entry_type)(head[0] & TYPE),
                            .mode = s->mode,
                            .uid = s->uid,
                            .gid = s->gid,
                            .mtime = s->mtime,
                            .mtime_ns = s->mtime_ns,
                            .target = ""};
    e->size = get_number(&f, UINT64_MAX);
    if (has_target(e->type))
        e->target = get_target(&f);
    if (is_device(e->type)) {
        e->major = (uint32_t)get_number(&f, UINT32_MAX);
        e->minor = (uint32_t)get_number(&f, UINT32_MAX);
    }
    if (!(head[0] & ONE_RUN))
        get_runs(&f, &r->runs, e->size);
    else if (e->size)
        *(struct index_run *)mos_vec_push(&r->runs) = (struct index_run){0, e->size};
    const uint8_t *sum = e->type == MOS_ENTRY_FILE ? get_bytes(&f, 8) : NULL;
    r->sum = sum ? mos_le64(sum) : 0;
    r->text = head[1] & HAS_TEXT ? get_bytes(&f, e->size) : NULL;
    e->attributes_length =
        head[1] & HAS_ATTRIBUTES ? (size_t)get_number(&f, (uint64_t)(f.end - f.at)) : 0;
    e->attributes = get_bytes(&f, e->attributes_length);
    e->sha256 = head[1] & HAS_HASH ? get_bytes(&f, MOS_SHA256_SIZE) : NULL;
    *at = (size_t)(f.at - from);
    return !f.bad;
}
