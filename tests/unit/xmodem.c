/* Both sides of XMODEM and YMODEM against each other, over lines that drop, double, delay and
 * change bytes, on a clock of the test's own. */
#include "support.h"

#include "link/xmodem.h"

#include <stdlib.h>
#include <string.h>

#define MS INT64_C(1000000)
#define SECOND (1000 * MS)

enum { RUNS = 500, MOST_BYTES = 40000, LINE = 1 << 16, BYTE_US = 87 };

/* One direction: bytes on their way. */
struct way {
    struct {
        int64_t at;
        uint8_t c;
    } bytes[LINE];
    size_t head, tail;
    int64_t free_at; /* when the next byte can be put onto it */
};

struct line {
    uint64_t seed;
    unsigned one_in; /* a byte in so many is hurt; 0: none */
    size_t hurt;
};

static void put(struct line *l, struct way *w, const uint8_t *bytes, size_t length, int64_t now) {
    for (size_t i = 0; i < length; i++) {
        uint8_t c = bytes[i];
        unsigned copies = 1;
        w->free_at = (w->free_at > now ? w->free_at : now) + BYTE_US * 1000;
        if (l->one_in && random_below(&l->seed, l->one_in) == 0) {
            l->hurt++;
            switch (random_below(&l->seed, 4)) {
            case 0:
                copies = 0;
                break;
            case 1:
                copies = 2;
                break;
            case 2:
                c ^= (uint8_t)(1 << random_below(&l->seed, 8));
                break;
            default:
                w->free_at += (int64_t)random_below(&l->seed, 1500) * MS;
            }
        }
        while (copies--) {
            CU_ASSERT_FATAL(w->tail - w->head < LINE);
            w->bytes[w->tail % LINE].at = w->free_at;
            w->bytes[w->tail++ % LINE].c = c;
        }
    }
}

static size_t get(struct way *w, uint8_t *to, size_t room, int64_t now) {
    size_t n = 0;
    while (n < room && w->head < w->tail && w->bytes[w->head % LINE].at <= now)
        to[n++] = w->bytes[w->head++ % LINE].c;
    return n;
}

/* ---- a transfer ---- */

struct transfer {
    struct mos_xmodem sender;
    struct mos_xmodem_receiver receiver;
    struct mos_xmodem_file files[3];
    uint8_t *content[3], *came;
    uint64_t came_length;
    size_t count, files_came;
    bool wrong; /* what came is not what was sent */
    int64_t took;
    struct way there, back;
    struct line line;
};

static void send_some(struct transfer *t, int64_t now) {
    uint8_t packet[MOS_XMODEM_PACKET];
    uint64_t at;
    size_t length, n;
    while ((n = mos_xmodem_next(&t->sender, now, packet, &at, &length))) {
        if (length) {
            memcpy(packet + 3, t->content[t->sender.current] + at, length);
            n = mos_xmodem_seal(&t->sender, packet, length);
        }
        put(&t->line, &t->there, packet, n, now);
    }
}

static void news_of(struct transfer *t, enum mos_xmodem_news news) {
    const struct mos_xmodem_receiver *r = &t->receiver;
    if (news == MOS_XMODEM_FILE) {
        t->wrong |= t->files_came >= t->count || strcmp(r->name, t->files[t->files_came].name) != 0;
        t->came_length = 0;
    } else if (news == MOS_XMODEM_BYTES) {
        CU_ASSERT_FATAL(r->at == t->came_length && r->at + r->length <= MOST_BYTES + 1024);
        memcpy(t->came + r->at, r->bytes, r->length);
        t->came_length += r->length;
    } else if (news == MOS_XMODEM_END) {
        const struct mos_xmodem_file *f = &t->files[t->files_came < t->count ? t->files_came : 0];
        /* without a size, the last block is filled up */
        uint64_t length = r->kind == MOS_YMODEM ? t->came_length : f->size;
        t->wrong |= t->files_came >= t->count || length != f->size || t->came_length < f->size ||
                    memcmp(t->came, t->content[t->files_came], f->size) != 0;
        t->files_came++;
    }
}

static void run(struct transfer *t) {
    int64_t now = 0;
    for (; now < 4000 * SECOND; now += MS) {
        uint8_t bytes[256], answers[8];
        send_some(t, now);
        size_t n = get(&t->there, bytes, sizeof bytes, now);
        for (size_t i = 0, taken; i < n; i += taken ? taken : 1) {
            enum mos_xmodem_news news =
                mos_xmodem_hear(&t->receiver, bytes + i, n - i, now, &taken);
            news_of(t, news);
            if (t->receiver.done || t->receiver.failed)
                break;
        }
        put(&t->line, &t->back, answers, mos_xmodem_answer(&t->receiver, now, answers), now);
        n = get(&t->back, bytes, sizeof bytes, now);
        mos_xmodem_take(&t->sender, bytes, n, now);
        bool idle = t->there.head == t->there.tail && t->back.head == t->back.tail;
        if (t->sender.state >= MOS_XMODEM_DONE && (t->receiver.done || t->receiver.failed) && idle)
            break;
        /* where nothing is on its way, time passes until somebody wants something */
        int64_t due = t->sender.state < MOS_XMODEM_DONE ? t->sender.due : INT64_MAX;
        if (!t->receiver.done && !t->receiver.failed && t->receiver.due < due)
            due = t->receiver.due;
        if (idle && !t->sender.speaks && due > now + MS && due != INT64_MAX)
            now = due - MS;
    }
    t->took = now;
}

static struct transfer *begin(uint64_t seed, enum mos_xmodem_kind sends, enum mos_xmodem_kind hears,
                              size_t count, size_t most, unsigned one_in) {
    static const char *const names[] = {"kernel", "main.dtb", "a name with blanks"};
    struct transfer *t = calloc(1, sizeof *t);
    t->line = (struct line){seed * 77 + 1, one_in, 0};
    t->count = count;
    t->came = malloc(MOST_BYTES + 2048);
    for (size_t i = 0; i < count; i++) {
        size_t size = (size_t)random_below(&t->line.seed, most + 1);
        t->files[i] = (struct mos_xmodem_file){names[i], size};
        t->content[i] = malloc(size + 1);
        for (size_t k = 0; k < size; k++)
            t->content[i][k] = (uint8_t)random_next(&t->line.seed);
    }
    mos_xmodem_begin(&t->sender, sends, t->files, count, 0);
    mos_xmodem_receive(&t->receiver, hears, 0);
    return t;
}

static void end(struct transfer *t) {
    for (size_t i = 0; i < t->count; i++)
        free(t->content[i]);
    free(t->came);
    free(t);
}

/* Sizes around every border, over a line that is good. */
static void good_lines(void) {
    static const size_t sizes[] = {0, 1, 127, 128, 129, 1023, 1024, 1025, 1151, 1152, 1153, 33000};
    for (unsigned kind = 0; kind < 3; kind++)
        for (size_t i = 0; i < sizeof sizes / sizeof *sizes; i++) {
            struct transfer *t =
                begin(i, (enum mos_xmodem_kind)kind, (enum mos_xmodem_kind)kind, 1, 0, 0);
            free(t->content[0]);
            t->content[0] = calloc(1, sizes[i] + 1);
            t->files[0].size = sizes[i];
            for (size_t k = 0; k < sizes[i]; k++)
                t->content[0][k] = (uint8_t)(k * 7 + (k >> 8));
            run(t);
            CU_ASSERT_EQUAL(t->sender.state, MOS_XMODEM_DONE);
            CU_ASSERT_TRUE(t->receiver.done && !t->receiver.failed && !t->wrong);
            CU_ASSERT_EQUAL(t->files_came, 1);
            CU_ASSERT_EQUAL(t->sender.resent, 1); /* its end, which is asked for twice */
            end(t);
        }
    for (unsigned seed = 0; seed < 20; seed++) {
        struct transfer *t = begin(seed, MOS_YMODEM, MOS_YMODEM, 3, 5000, 0);
        run(t);
        CU_ASSERT_EQUAL(t->sender.state, MOS_XMODEM_DONE);
        CU_ASSERT_TRUE(t->receiver.done && !t->wrong);
        CU_ASSERT_EQUAL(t->files_came, 3);
        end(t);
    }
}

/* Every line ends: with all of it, or with a word about why not; and never with something else. */
static void bad_lines(void) {
    size_t complete = 0, failed = 0, hurt = 0;
    for (unsigned n = 0; n < RUNS; n++) {
        static const unsigned rates[] = {10000, 3000, 1000, 500, 200};
        enum mos_xmodem_kind kind = (enum mos_xmodem_kind)(n % 3);
        struct transfer *t =
            begin(n, kind, kind, kind == MOS_YMODEM ? 1 + n % 2 : 1, 8000, rates[n % 5]);
        run(t);
        bool sender = t->sender.state == MOS_XMODEM_DONE,
             receiver = t->receiver.done && !t->receiver.failed;
        bool over = t->sender.state >= MOS_XMODEM_DONE && (t->receiver.done || t->receiver.failed);
        CU_ASSERT_TRUE(over);
        CU_ASSERT_TRUE(sender || t->sender.why);
        CU_ASSERT_TRUE(receiver || t->receiver.why);
        if (!over)
            fprintf(stderr, "\nrun %u: sender %d, receiver %d\n", n, t->sender.state,
                    t->receiver.done);
        /* a sum of eight bits lets one bad block in 256 pass: only a CRC is held to its word */
        if (!t->receiver.sums)
            CU_ASSERT_FALSE(t->wrong);
        if (sender && kind == MOS_YMODEM)
            CU_ASSERT_EQUAL(t->files_came, t->count);
        complete += sender && receiver;
        failed += !sender || !receiver;
        hurt += t->line.hurt;
        end(t);
    }
    CU_ASSERT_TRUE(hurt > 5000 && complete + failed == RUNS);
    CU_ASSERT_TRUE(complete >= RUNS * 99 / 100);
}

/* Somebody who never answers, or never sends, or breaks it off. */
static void nobody_waits_for_ever(void) {
    static const struct mos_xmodem_file file = {"kernel", 3000};
    uint8_t packet[MOS_XMODEM_PACKET], answers[8];
    for (unsigned kind = 0; kind < 3; kind++) {
        struct mos_xmodem x;
        struct mos_xmodem_receiver r;
        uint64_t at;
        size_t length, sums = 0;
        mos_xmodem_begin(&x, (enum mos_xmodem_kind)kind, &file, 1, 0);
        mos_xmodem_receive(&r, (enum mos_xmodem_kind)kind, 0);
        for (int64_t now = 0; now < 1000 * SECOND; now += SECOND) {
            mos_xmodem_next(&x, now, packet, &at, &length);
            size_t n = mos_xmodem_answer(&r, now, answers);
            for (size_t i = 0; i < n; i++)
                sums += answers[i] == 0x15;
        }
        CU_ASSERT_EQUAL(x.state, MOS_XMODEM_FAILED);
        CU_ASSERT_STRING_EQUAL(x.why, "the other side does not ask for it");
        CU_ASSERT_TRUE(r.failed);
        CU_ASSERT_STRING_EQUAL(r.why, "nobody sends anything");
        CU_ASSERT_EQUAL(sums != 0, kind == MOS_XMODEM); /* only there are sums called for */
        mos_xmodem_begin(&x, (enum mos_xmodem_kind)kind, &file, 1, 0);
        mos_xmodem_take(&x, (const uint8_t *)"C\x18\x18", 1, 0);
        mos_xmodem_next(&x, 0, packet, &at, &length);
        mos_xmodem_take(&x, (const uint8_t *)"\x18\x18", 2, 0);
        CU_ASSERT_EQUAL(x.state, MOS_XMODEM_FAILED);
        CU_ASSERT_STRING_EQUAL(x.why, "the other side broke it off");
    }
}

/* An older receiver, which knows sums only. */
static void sums_are_called_for(void) {
    struct transfer *t = begin(5, MOS_XMODEM_1K, MOS_XMODEM, 1, 3000, 0);
    t->receiver.sums = true;
    t->receiver.answers[0] = 0x15;
    run(t);
    CU_ASSERT_EQUAL(t->sender.state, MOS_XMODEM_DONE);
    CU_ASSERT_TRUE(t->sender.sums && t->receiver.done && !t->wrong);
    end(t);
}

/* The answer to a file's end is lost: the end comes once more, and must not be waited out. */
static void a_lost_answer_is_given_again(void) {
    static const uint8_t end_of_file[] = {4};
    struct transfer *t = begin(9, MOS_YMODEM, MOS_YMODEM, 2, 3000, 0);
    uint8_t answers[8];
    size_t taken, acks = 0;
    run(t);
    CU_ASSERT_TRUE(t->receiver.done && !t->wrong);
    t->receiver.done = false; /* as it was between the two files */
    t->receiver.answer_count = 0;
    mos_xmodem_hear(&t->receiver, end_of_file, 1, t->took, &taken);
    size_t n = mos_xmodem_answer(&t->receiver, t->took, answers);
    for (size_t i = 0; i < n; i++)
        acks += answers[i] == 6;
    CU_ASSERT_EQUAL(acks, 1);
    end(t);
}

/* Who has confirmed every block may have left: that takes no minutes, and is told as it is. */
static void who_has_left_is_not_waited_for(void) {
    static const struct mos_xmodem_file file = {"kernel", 100};
    static const struct {
        enum mos_xmodem_kind kind;
        const char *answers; /* one behind each packet; then silence */
        enum mos_xmodem_state state;
    } rows[] = {{MOS_YMODEM, "C\6C\6\6C", MOS_XMODEM_DONE},
                {MOS_YMODEM, "C\6C\6\6", MOS_XMODEM_DONE},
                {MOS_YMODEM, "C\6C\6", MOS_XMODEM_FAILED},
                {MOS_XMODEM, "C\6", MOS_XMODEM_FAILED}};
    for (size_t i = 0; i < sizeof rows / sizeof *rows; i++) {
        struct mos_xmodem x;
        uint8_t packet[MOS_XMODEM_PACKET];
        uint64_t at;
        size_t length;
        int64_t now = 0;
        mos_xmodem_begin(&x, rows[i].kind, &file, 1, now);
        for (const char *c = rows[i].answers; *c; c++) {
            mos_xmodem_take(&x, (const uint8_t *)c, 1, now);
            mos_xmodem_next(&x, now += SECOND / 10, packet, &at, &length);
        }
        for (; x.state < MOS_XMODEM_DONE && now < 150 * SECOND; now += SECOND)
            mos_xmodem_next(&x, now, packet, &at, &length);
        CU_ASSERT_EQUAL(x.state, rows[i].state);
        CU_ASSERT(x.state == MOS_XMODEM_DONE || (x.why && strstr(x.why, "not confirm the end")));
    }
}

SUITE(xmodem_suite, {"who has left is not waited for", who_has_left_is_not_waited_for},
      {"a lost answer is given again", a_lost_answer_is_given_again}, {"good lines", good_lines},
      {"bad lines", bad_lines}, {"nobody waits for ever", nobody_waits_for_ever},
      {"sums are called for", sums_are_called_for});
