#include "programming/programmer.h"

#include "base/bytes.h"
#include "base/hash.h"
#include "base/text.h"

#include <errno.h>
#include <inttypes.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#define SECOND INT64_C(1000000000)

/* Pieces: what is lost when a transfer fails, and what is looked at as one. */
enum { BY_NETWORK = 4 << 20, BY_LINE = 64 << 10, MOST_TRIES = 3 };
/* Bytes a second that the slowest storage and sum take. */
enum { SLOWEST = 1 << 10, PATIENCE = 30 };

struct piece {
    uint64_t at, length;
    enum mos_media_phase phase;
    bool zero, right;     /* `right`: it was found to be there */
    const uint8_t *bytes; /* of a table; NULL: the image's */
    const char *region;
};

/* ---- what is offered to the board ---- */

bool mos_programmer_find(void *self, const struct mos_peer *from, const char *name,
                         struct mos_served *out, const char **why) {
    const struct mos_programmer *p = self;
    (void)from;
    (void)why;
    if (!p->offered.bytes || strcmp(name, p->offered.name) != 0)
        return false;
    *out = (struct mos_served){p->offered.size, (void *)(uintptr_t)p->offered.bytes};
    return true;
}

int mos_programmer_read(void *self, void *file, void *to, size_t length, uint64_t at) {
    const struct mos_programmer *p = self;
    if (!p->offered.bytes || file != p->offered.bytes)
        return ENOENT; /* another piece is on offer now */
    if (at > p->offered.size || length > p->offered.size - at)
        return EINVAL;
    memcpy(to, p->offered.bytes + at, length);
    return 0;
}

/* ---- orders ---- */

static bool fault(struct mos_programmer *p, enum mos_programmer_fault kind, const char *why) {
    if (!p->fault) {
        p->fault = kind;
        p->why = why;
    }
    return false;
}

/* The answer's last words, for people. */
static const char *words_of(struct mos_programmer *p, const char *answer) {
    struct mos_buf b = {.arena = p->ctx->arena};
    const char *end = answer + strlen(answer);
    while (end > answer && strchr("\n\t ", end[-1]))
        end--;
    const char *from = end;
    while (from > answer && from[-1] != '\n' && end - from < 200)
        from--;
    for (; from < end; from++)
        mos_buf_char(&b, *from >= ' ' && *from < 0x7f ? *from : '?');
    return b.length ? mos_buf_string(&b) : NULL;
}

static int64_t patience_of(const struct mos_order *o) {
    return (PATIENCE + (int64_t)(o->length / SLOWEST)) * SECOND;
}

/* One command of a deed.  false: nothing more can be asked (p->fault); *why: what went wrong. */
static bool command(struct mos_programmer *p, const struct mos_order *o, size_t index,
                    const char *text, struct mos_order_told *told, const char **why) {
    const char *answer;
    enum mos_talk_end end;
    *why = NULL;
    if (o->deed == MOS_ORDER_RECEIVE)
        end =
            mos_talk_send(p->talk, text, p->orders->calls, p->offered.name, p->offered.bytes,
                          (size_t)p->offered.size,
                          patience_of(o) + SECOND * (int64_t)(p->offered.size / 500), &answer, why);
    else
        end = mos_talk_ask(p->talk, text, patience_of(o), &answer);
    /* noise, or it has started anew: then its RAM is not what it was, and must not be stored */
    if (end == MOS_TALK_SILENT && mos_talk_reach_prompt(p->talk, 5 * SECOND) == MOS_TALK_ANSWERED) {
        *why = "its answer did not end";
        return true;
    }
    if (end != MOS_TALK_ANSWERED) {
        p->fault = MOS_PROGRAMMER_FAILED;
        p->why = mos_talk_end_text(p->talk, end);
        return false;
    }
    *why = *why ? *why : p->orders->understand(o, index, answer, told);
    p->said = *why ? words_of(p, answer) : NULL;
    return true;
}

/* Types a deed's commands once; NULL, or what went wrong. */
static const char *order_once(struct mos_programmer *p, const struct mos_order *o,
                              struct mos_order_told *told) {
    for (size_t i = 0;; i++) {
        struct mos_buf text = {.arena = p->ctx->arena};
        const char *why;
        if (!p->orders->type(o, i, &text))
            return NULL;
        if (!command(p, o, i, mos_buf_string(&text), told, &why))
            return p->why;
        if (why)
            return why;
    }
}

/* An answer that is not understood may be one that the line has changed, or the board has started
 * anew: what does not store may be done again, from its first command on, which says to what
 * device. */
static const char *order(struct mos_programmer *p, struct mos_order *o,
                         struct mos_order_told *told) {
    const char *why;
    unsigned tries = 0;
    o->medium = p->medium;
    o->area = p->area;
    do
        why = order_once(p, o, told);
    while (why && !p->fault && ++tries < MOST_TRIES && o->deed != MOS_ORDER_WRITE);
    return why;
}

/* ---- who is there ---- */

static bool find_window(struct mos_programmer *p) {
    struct mos_order o = {.deed = MOS_ORDER_MEMORY};
    if (!p->window_to) {
        const char *why = order(p, &o, &p->told);
        if (p->fault)
            return false;
        if (why || !p->told.to)
            return fault(p, MOS_PROGRAMMER_REFUSED,
                         "the loader does not tell which RAM is free; state a window");
        p->window_from = p->told.from;
        p->window_to = p->told.to;
    }
    p->window_from = mos_round_up(p->window_from, 4096);
    uint64_t half =
        mos_round_down((p->window_to - mos_min(p->window_from, p->window_to)) / 2, 4096);
    uint64_t most = p->largest ? p->largest : p->by_line ? BY_LINE : BY_NETWORK;
    most = mos_round_down(mos_min(half, most), p->grain);
    if (half < MOS_ORDER_LEAST_PIECE || !most)
        return fault(
            p, MOS_PROGRAMMER_REFUSED,
            mos_printf(p->ctx->arena, "its free RAM, %s, does not hold two pieces of %s",
                       mos_size_text(p->ctx->arena, 2 * half),
                       mos_size_text(p->ctx->arena, mos_max(p->grain, MOS_ORDER_LEAST_PIECE))));
    p->piece_size = most;
    p->bytes = mos_alloc(p->ctx->arena, (size_t)most);
    return true;
}

bool mos_programmer_identify(struct mos_programmer *p) {
    if (!find_window(p))
        return false;
    struct mos_order o = {.deed = MOS_ORDER_IDENTIFY, .address = p->window_from};
    const char *why = order(p, &o, &p->told);
    return !why || fault(p, MOS_PROGRAMMER_REFUSED, why);
}

static bool set_network(struct mos_programmer *p) {
    struct mos_order o = {.deed = MOS_ORDER_NETWORK,
                          .own_address = p->own_address,
                          .netmask = p->netmask,
                          .server = p->server};
    const char *why = p->by_line || p->loader_ready ? NULL : order(p, &o, &p->told);
    p->loader_ready = !why;
    return !why || fault(p, MOS_PROGRAMMER_FAILED, why);
}

/* ---- pieces ---- */

static void cut(struct mos_programmer *p, uint64_t at, uint64_t length, struct piece like) {
    const uint8_t *bytes = like.bytes;
    while (length) {
        struct piece *x = mos_vec_push(&p->pieces);
        *x = like;
        x->at = at;
        x->length = mos_min(length, p->piece_size - at % p->piece_size);
        x->bytes = bytes;
        bytes = bytes ? bytes + x->length : NULL;
        at += x->length;
        length -= x->length;
    }
}

/* A ROM looks at the beginning of what it starts: that is written last of all. */
static void last_to_first(struct mos_programmer *p) {
    size_t from = 0, to = p->pieces.count;
    while (from < to && ((struct piece *)mos_vec_at(&p->pieces, from))->phase != MOS_MEDIA_START)
        from++;
    for (; from + 1 < to; from++, to--) {
        struct piece *a = mos_vec_at(&p->pieces, from), *b = mos_vec_at(&p->pieces, to - 1), x = *a;
        *a = *b;
        *b = x;
    }
}

static void make_pieces(struct mos_programmer *p) {
    p->pieces = mos_vec_make(p->ctx->arena, sizeof(struct piece));
    for (int phase = 0; phase < MOS_MEDIA_PHASES; phase++) {
        for (size_t i = 0; i < p->span_count; i++) {
            const struct mos_media_span *s = &p->spans[i];
            if ((int)s->phase == phase && !(p->keeps && s->may_stay))
                cut(p, s->offset, s->length,
                    (struct piece){.phase = s->phase, .zero = s->zero, .region = s->region});
        }
        for (size_t i = 0; phase == MOS_MEDIA_TABLE && i < p->patch_count; i++)
            cut(p, p->patches[i].offset, p->patches[i].length,
                (struct piece){.phase = MOS_MEDIA_TABLE, .bytes = p->patches[i].bytes});
    }
    last_to_first(p);
}

static bool load(struct mos_programmer *p, const struct piece *x) {
    int e = 0;
    if (x->bytes)
        memcpy(p->bytes, x->bytes, (size_t)x->length);
    else if (x->zero)
        memset(p->bytes, 0, (size_t)x->length);
    else
        e = mos_io_read(p->content, p->bytes, (size_t)x->length, x->at);
    return !e || mos_fail(p->ctx->error, MOS_ERROR_SYSTEM, e, "The image cannot be read");
}

static uint32_t sum_of(const struct mos_programmer *p, const struct piece *x) {
    return mos_crc32(0, p->bytes, (size_t)x->length);
}

static bool fault_at(struct mos_programmer *p, enum mos_programmer_fault kind,
                     const struct piece *x, const char *why) {
    if (!p->length) {
        p->at = x->at;
        p->length = x->length;
        p->region = x->region;
    }
    return fault(p, kind, why);
}

/* ---- RAM and storage of the board ---- */

/* The sum of so many bytes of its RAM.  One that is not the expected one is asked for again: two
 * equal answers count, since a line may change one. */
static const char *sum_ram(struct mos_programmer *p, uint64_t address, uint64_t length,
                           uint32_t expected, uint32_t *sum) {
    const char *why = NULL;
    bool again = false;
    for (unsigned tries = 0; tries < 2 * MOST_TRIES && !p->fault; tries++) {
        struct mos_order o = {.deed = MOS_ORDER_SUM, .address = address, .length = length};
        struct mos_order_told told = {0};
        why = order(p, &o, &told);
        if (why || !told.has_sum)
            continue;
        if (told.sum == expected || (again && told.sum == *sum)) {
            *sum = told.sum;
            return NULL;
        }
        *sum = told.sum;
        again = true;
    }
    return why ? why : "it tells another sum each time";
}

static const char *fill_ram(struct mos_programmer *p, uint64_t address, uint64_t length,
                            uint8_t byte) {
    struct mos_order o = {
        .deed = MOS_ORDER_FILL, .address = address, .length = length, .fill = byte};
    return order(p, &o, &p->told);
}

/* The sum of what the storage has there.  The RAM is spoilt before, so that a read that did nothing
 * is no proof. */
static const char *sum_storage(struct mos_programmer *p, const struct piece *x, uint32_t *sum) {
    uint64_t back = p->window_from + mos_round_up(p->piece_size, 4096);
    struct mos_order o = {
        .deed = MOS_ORDER_READ, .at = x->at, .length = x->length, .address = back};
    const char *why = fill_ram(p, back, x->length, (uint8_t)~p->bytes[0]);
    why = why ? why : order(p, &o, &p->told);
    return why ? why : sum_ram(p, back, x->length, sum_of(p, x), sum);
}

/* The piece to the board's RAM, whole. */
static bool bring(struct mos_programmer *p, const struct piece *x) {
    const char *why = NULL;
    if (x->zero) {
        why = fill_ram(p, p->window_from, x->length, 0);
        return !why || fault_at(p, MOS_PROGRAMMER_FAILED, x, why);
    }
    snprintf(p->offered.name, sizeof p->offered.name, "at-%" PRIx64, x->at);
    p->offered.bytes = p->bytes;
    p->offered.size = x->length;
    for (unsigned tries = 0; tries < MOST_TRIES && !p->fault; tries++) {
        struct mos_order o = {.deed = p->by_line ? MOS_ORDER_RECEIVE : MOS_ORDER_FETCH,
                              .address = p->window_from,
                              .length = x->length,
                              .file = p->offered.name};
        struct mos_order_told told = {0};
        uint32_t sum = 0;
        why = order(p, &o, &told);
        if (!why && told.bytes != x->length)
            why = "not all of it came to the board's RAM";
        why = why ? why : sum_ram(p, p->window_from, x->length, sum_of(p, x), &sum);
        if (!why && sum == sum_of(p, x))
            break;
        why = why ? why : "what came to the board's RAM is something else";
        if (p->talk->server && p->talk->server->why && o.deed == MOS_ORDER_FETCH)
            why = p->talk->server->why;
    }
    p->offered.bytes = NULL;
    return !why || fault_at(p, MOS_PROGRAMMER_FAILED, x, why);
}

static const char *store(struct mos_programmer *p, uint64_t at, uint64_t length) {
    struct mos_order o = {
        .deed = MOS_ORDER_WRITE, .at = at, .length = length, .address = p->window_from};
    return order(p, &o, &p->told);
}

static bool write_piece(struct mos_programmer *p, struct piece *x) {
    uint32_t sum = 0;
    const char *why = NULL;
    unsigned tries = 0;
    do { /* its RAM is proved each time before it is stored */
        if (!load(p, x) || !bring(p, x))
            return false;
        why = store(p, x->at, x->length);
    } while (why && !p->fault && ++tries < MOST_TRIES);
    why = why ? why : sum_storage(p, x, &sum);
    if (why)
        return fault_at(p, MOS_PROGRAMMER_FAILED, x, why);
    if (sum != sum_of(p, x))
        return fault_at(p, MOS_PROGRAMMER_DIFFERS, x,
                        "it gives back something else than was written");
    p->written += x->length;
    x->right = true;
    return true;
}

/* ---- all of it ---- */

static void progress(struct mos_programmer *p, const char *what, uint64_t done, uint64_t total) {
    if (p->ctx->progress)
        p->ctx->progress(p->ctx->progress_self, what, done, total);
}

static uint64_t total_of(const struct mos_programmer *p, bool all) {
    uint64_t total = 0;
    for (size_t i = 0; i < p->pieces.count; i++) {
        const struct piece *x = mos_vec_at(&p->pieces, i);
        total += all || !x->right ? x->length : 0;
    }
    return total;
}

/* Looks at everything that is there; *wrong: the first piece that is not right, or NULL. */
static bool look(struct mos_programmer *p, const char *what, const struct piece **wrong) {
    uint64_t done = 0, total = total_of(p, true);
    *wrong = NULL;
    for (size_t i = 0; i < p->pieces.count; i++) {
        struct piece *x = mos_vec_at(&p->pieces, i);
        uint32_t sum = 0;
        progress(p, what, done, total);
        if (!load(p, x))
            return false;
        const char *why = sum_storage(p, x, &sum);
        if (why)
            return fault_at(p, MOS_PROGRAMMER_FAILED, x, why);
        x->right = sum == sum_of(p, x);
        *wrong = *wrong || x->right ? *wrong : x;
        done += x->length;
    }
    return true;
}

static bool make_invalid(struct mos_programmer *p) {
    p->invalid = false;
    p->stuck = p->void_count > 0; /* until all of them are written */
    for (size_t i = 0; i < p->void_count; i++) {
        const struct mos_media_patch *v = &p->voids[i];
        const char *why = NULL;
        unsigned tries = 0;
        do {
            why = fill_ram(p, p->window_from, v->length, 0);
            why = why ? why : store(p, v->offset, v->length);
        } while (why && !p->fault && ++tries < MOST_TRIES);
        if (why) {
            p->at = v->offset;
            p->length = v->length;
            return fault(p, MOS_PROGRAMMER_FAILED, why);
        }
        for (size_t k = 0; k < p->pieces.count; k++) {
            struct piece *x = mos_vec_at(&p->pieces, k);
            if (x->at < v->offset + v->length && v->offset < x->at + x->length)
                x->right = false;
        }
    }
    p->invalid = p->void_count > 0;
    p->stuck = false;
    return true;
}

bool mos_programmer_holds(struct mos_programmer *p, const struct mos_media_patch *patch,
                          bool *same) {
    *same = true;
    for (size_t done = 0; done < patch->length && *same;) {
        struct piece x = {.at = patch->offset + done, .bytes = patch->bytes + done};
        x.length = mos_min(patch->length - done, p->piece_size);
        uint32_t sum = 0;
        if (!load(p, &x))
            return false;
        const char *why = sum_storage(p, &x, &sum);
        if (why)
            return fault_at(p, MOS_PROGRAMMER_FAILED, &x, why);
        *same = sum == sum_of(p, &x);
        done += (size_t)x.length;
    }
    return true;
}

/* Before anything is lost: does something come through at all? */
static bool try_way(struct mos_programmer *p) {
    for (size_t i = 0; i < p->pieces.count; i++) {
        const struct piece *x = mos_vec_at(&p->pieces, i);
        if (!x->right && !x->zero)
            return load(p, x) && bring(p, x);
    }
    return true;
}

bool mos_programmer_write(struct mos_programmer *p) {
    const struct piece *wrong;
    make_pieces(p);
    if (!look(p, "look at what is there", &wrong))
        return false;
    if (wrong) {
        if (!set_network(p) || !try_way(p) || !make_invalid(p))
            return false;
        uint64_t done = 0, total = total_of(p, false);
        p->kept = total_of(p, true) - total;
        for (size_t i = 0; i < p->pieces.count; i++) {
            struct piece *x = mos_vec_at(&p->pieces, i);
            if (x->right)
                continue;
            progress(p, "write", done, total);
            if (!write_piece(p, x))
                return false;
            done += x->length;
        }
        if (!look(p, "read back", &wrong))
            return false;
        if (wrong) {
            fault_at(p, MOS_PROGRAMMER_DIFFERS, wrong,
                     "it was right when it was written, and is something else now");
            make_invalid(p); /* what can be started must be whole */
            return false;
        }
        p->invalid = false;
    } else
        p->kept = total_of(p, true);
    p->proved = true;
    return true;
}
