/* Programming boards through themselves: on made-up boards, whose line, network and storage fail in
 * every way that they do. */
#include "support.h"

#include "computer/board.h"
#include "computer/made-up.h"
#include "computer/spans.h"
#include "mosaicum/mosaicum.h"
#include "platform/platform.h"

#include <stdlib.h>
#include <string.h>

enum { KIB = 1 << 10, MIB = 1 << 20, DISK = 8 * MIB, FIRST_AT = 32 * KIB, MOST_TEXT = 2000 };

/* ---- a workspace with a board that is built ---- */

static const char *const disk_layout =
    "rom: {order: [store], first-stage: {store: {at: 32 KiB, limit: 192 KiB}}}\n"
    "stages: {first: {piece: first, by: rom}}\n"
    "layout:\n"
    "  store:\n"
    "    table: {kind: gpt}\n"
    "    regions:\n"
    "      first: {stage: first}\n"
    "      loader: {at: 512 KiB, size: 512 KiB, piece: loader}\n"
    "      serial: {at: 1 MiB, size: 64 KiB, piece: serial, owner: factory}\n"
    "      data: {number: 1, size: rest, volume: {kind: ext4, label: data, fills: {a: {piece: "
    "loader, "
    "to: loader}}}}\n";
static const char *const flash_layout =
    "rom: {order: [store], first-stage: {store: {at: 0 B, limit: 192 KiB}}}\n"
    "stages: {first: {piece: first, by: rom}}\n"
    "layout:\n"
    "  store:\n"
    "    regions:\n"
    "      first: {stage: first}\n"
    "      loader: {at: 512 KiB, size: 512 KiB, piece: loader}\n";

struct scene {
    struct mos_host host;
    struct board_made *board;
    char *folder, *image;
    uint8_t *bytes; /* of the image */
    size_t size;
    const char *kind;
};

static void put_piece(struct scene *s, const char *name, size_t size, uint64_t seed) {
    uint8_t *bytes = malloc(size);
    for (size_t i = 0; i < size; i++)
        bytes[i] = (uint8_t)(random_next(&seed) >> 11);
    write_file(path_in(s->folder, "%s", name), bytes, size);
    free(bytes);
}

static enum mosaicum_status build(struct scene *s) {
    struct mosaicum_options o = {.host = mos_platform_host(), .workspace = s->folder};
    mosaicum *m = mosaicum_new(&o);
    enum mosaicum_status status = mosaicum_build(m, NULL, 0, NULL);
    for (size_t i = 0; status && i < mosaicum_finding_count(m); i++)
        fprintf(stderr, "\n%s: %s\n", mosaicum_finding_at(m, i)->rule,
                mosaicum_finding_at(m, i)->message);
    mosaicum_free(m);
    return status;
}

static void put_board(struct scene *s, const char *ways) {
    bool flash = strcmp(s->kind, "sf") == 0;
    char text[4000];
    snprintf(text, sizeof text,
             "mosaicum: 1\nboard: curlew\nhardware:\n  cpu: arm64\n  media:\n    store: {kind: %s, "
             "size: {at-least: 8 MiB, at-most: 8 MiB}, erase: 64 KiB, loader: %s 0}\n"
             "loader: {dialect: u-boot}\n"
             "pieces: {first: {file: first}, loader: {file: loader}, serial: {file: serial}}\n%s"
             "programming:\n%s",
             flash ? "nor" : "emmc", s->kind, flash ? flash_layout : disk_layout, ways);
    write_text(path_in(s->folder, "boards/curlew.yaml"), text);
    CU_ASSERT_EQUAL_FATAL(build(s), MOSAICUM_DONE);
    free(s->bytes);
    s->bytes = (uint8_t *)read_whole(s->image, &s->size);
    CU_ASSERT_EQUAL_FATAL(s->size, DISK);
}

static const char *const two_ways =
    "  net:\n    window: {start: 0x40010000, size: 512 KiB}\n    steps:\n"
    "      power: {person: Give it power., prompt: yes, within: 5}\n"
    "      write: {write: store, by: network, names: [Tern8]}\n"
    "  line:\n    steps:\n"
    "      power: {person: Give it power., prompt: yes, within: 5}\n"
    "      write: {write: store, by: serial, names: [Tern8]}\n"
    "  part:\n    steps:\n"
    "      power: {prompt: yes}\n"
    "      write: {write: store, by: network, names: [Tern8], regions: [loader]}\n";

static void scene_start(struct scene *s, const char *kind) {
    memset(s, 0, sizeof *s);
    s->kind = kind;
    s->folder = keep(test_folder("programming"));
    s->image = keep(path_in(s->folder, "out/curlew/store.img"));
    write_text(path_in(s->folder, "mosaicum.yaml"), "mosaicum: 1\nworkspace: saltmarsh-survey\n");
    put_piece(s, "first", 100000, 1);
    put_piece(s, "loader", 300001, 2);
    put_piece(s, "serial", 5000, 3);
    put_board(s, two_ways);
    s->board = board_new(kind, "Tern8", DISK);
}

static void scene_end(struct scene *s) {
    board_free(s->board);
    free(s->bytes);
}

/* ---- one run ---- */

struct result {
    enum mosaicum_status status;
    char rules[200], error[300], results[MOST_TEXT], told[MOST_TEXT];
    const char *confirms;               /* steps that somebody confirms; NULL: all */
    bool alone;                         /* nobody is there */
    void (*meanwhile)(struct scene *s); /* done while the first step is asked for; or NULL */
    struct scene *scene;
};

static void note(char *to, const char *text) {
    size_t n = strlen(to);
    if (text)
        snprintf(to + n, MOST_TEXT - n, "%s%s", n ? " | " : "", text);
}

static bool consents(void *self, const char *what, const char *token) {
    (void)self, (void)what, (void)token;
    return true;
}

static bool step(void *self, const char *name, const char *text, bool asks) {
    struct result *r = self;
    (void)text;
    if (r->meanwhile && !*r->told)
        r->meanwhile(r->scene);
    note(r->told, name);
    return !asks || !r->confirms || strstr(r->confirms, name);
}

static bool take_result(void *self, const struct mosaicum_cell *cells) {
    note(((struct result *)self)->results, cells[1].text);
    return true;
}

static struct result program(struct scene *s, struct mosaicum_program r, struct result out) {
    struct mosaicum_options o = {.host = &s->host, .workspace = s->folder};
    const struct mos_computer *computer = s->host.computer;
    s->host = *mos_platform_host();
    s->host.computer = computer ? computer : s->host.computer;
    board_host(s->board, &s->host);
    r.selector = "curlew";
    r.serial = r.serial ? r.serial : "made-up";
    r.address = "192.0.2.1";
    r.board_address = "192.0.2.2/24";
    r.ask = r.yes ? NULL : consents;
    r.step = out.alone ? NULL : step;
    r.self = &out;
    mosaicum *m = mosaicum_new(&o);
    out.status = mosaicum_program(m, &r);
    for (size_t i = 0; i < mosaicum_finding_count(m); i++)
        snprintf(out.rules, sizeof out.rules, "%s", mosaicum_finding_at(m, i)->rule);
    snprintf(out.error, sizeof out.error, "%s", mosaicum_error(m) ? mosaicum_error(m) : "");
    for (size_t i = 0; i < mosaicum_table_count(m); i++) {
        const struct mosaicum_table *t = mosaicum_table_at(m, i);
        if (strcmp(t->key, "programmed") == 0)
            mosaicum_table_rows(m, t, take_result, &out);
    }
    mosaicum_free(m);
    return out;
}

static struct result go(struct scene *s, const char *way) {
    board_power(s->board);
    return program(s, (struct mosaicum_program){.way = way}, (struct result){0});
}

static bool is_whole(struct scene *s) {
    return is_as_built(keep(path_in(s->folder, "out/curlew")), "store.img",
                       board_storage(s->board));
}

/* A ROM would start what is there. */
static bool can_start(struct scene *s) {
    size_t at = strcmp(s->kind, "sf") == 0 ? 0 : FIRST_AT;
    return memcmp(board_storage(s->board) + at, s->bytes + at, 512) == 0;
}

static bool has_table(struct scene *s) {
    return memcmp(board_storage(s->board) + 512, "EFI PART", 8) == 0;
}

/* ---- tests ---- */

static void every_kind_both_ways(void) {
    static const char *const kinds[] = {"mmc", "virtio", "sf"}, *const ways[] = {"net", "line"};
    for (size_t i = 0; i < 6; i++) {
        struct scene s;
        scene_start(&s, kinds[i / 2]);
        struct result r = go(&s, ways[i % 2]);
        CU_ASSERT_EQUAL(r.status, MOSAICUM_DONE);
        CU_ASSERT_PTR_NOT_NULL(strstr(r.results, "and read back"));
        CU_ASSERT(is_whole(&s) && can_start(&s));
        if (r.status)
            fprintf(stderr, "\n%s %s: %s %s\n", kinds[i / 2], ways[i % 2], r.error, r.results);
        unsigned long before = board_written(s.board);
        r = go(&s, ways[i % 2]); /* nothing is written again */
        CU_ASSERT_EQUAL(r.status, MOSAICUM_DONE);
        CU_ASSERT_PTR_NOT_NULL(strstr(r.results, "nothing differed"));
        CU_ASSERT_EQUAL(board_written(s.board), before);
        char *record = read_whole(path_in(s.folder, "written.jsonl"), NULL);
        CU_ASSERT(record && strstr(record, "\"model\":\"Tern8\"") &&
                  strstr(record, "nothing differed"));
        free(record);
        scene_end(&s);
    }
}

static const struct {
    const char *what;
    struct board_fault fault;
    const char *way;
    enum mosaicum_status status;
    const char *says;
    bool whole;
} faults[] = {
    {"datagrams get lost", {.net_loses = 40}, "net", MOSAICUM_DONE, "read back", true},
    {"… and come twice", {.net_doubles = 5}, "net", MOSAICUM_DONE, "read back", true},
    {"the line loses keys", {.line_loses = 700}, "net", MOSAICUM_DONE, "read back", true},
    {"the line changes keys", {.line_flips = 700}, "net", MOSAICUM_DONE, "read back", true},
    {"… and files", {.line_flips = 20000}, "line", MOSAICUM_DONE, "read back", true},
    {"… and loses of them", {.line_loses = 20000}, "line", MOSAICUM_DONE, "read back", true},
    {"the line changes answers", {.answers_flip = 900}, "net", MOSAICUM_DONE, "read back", true},
    {"… often", {.answers_flip = 250}, "net", MOSAICUM_DONE, "read back", true},
    {"the line is hopeless",
     {.line_flips = 8},
     "net",
     MOSAICUM_SYSTEM,
     "come back as it was",
     false},
    {"it cannot write",
     {.write_fails = true, .at = 600 * KIB},
     "net",
     MOSAICUM_SYSTEM,
     "the loader could not do it (loader",
     false},
    {"it says that it wrote",
     {.write_lies = true, .at = 600 * KIB},
     "net",
     MOSAICUM_FINDINGS,
     "gives back something else than was written (loader",
     false},
    {"a bit flips",
     {.bits_flip = true, .at = 600 * KIB},
     "line",
     MOSAICUM_FINDINGS,
     "something else than was written",
     false},
    {"it says that it read",
     {.read_lies = true, .at = 600 * KIB},
     "net",
     MOSAICUM_FINDINGS,
     "something else than was written",
     false},
    {"it is smaller than it says",
     {.wraps = 1 * MIB},
     "net",
     MOSAICUM_FINDINGS,
     "something else",
     false},
    {"nobody is there", {.mute = true}, "net", MOSAICUM_SYSTEM, "no prompt", false},
    {"it dies", {.dies_after = 40}, "net", MOSAICUM_SYSTEM, "no longer answers", false},
    {"it dies in a transfer",
     {.dies_after = 60},
     "line",
     MOSAICUM_SYSTEM,
     "no longer answers",
     false},
    {"the plug is pulled", {.line_goes_after = 30}, "net", MOSAICUM_SYSTEM, "line is gone", false},
    {"it starts anew", {.resets_after = 50}, "net", MOSAICUM_SYSTEM, "", false},
    {"no sums", {.lacks = "crc32"}, "net", MOSAICUM_SYSTEM, "no such command", false},
    {"no network", {.lacks = "tftpboot"}, "net", MOSAICUM_SYSTEM, "no such command", false},
    {"no YMODEM", {.lacks = "loady"}, "line", MOSAICUM_SYSTEM, "no such command", false},
    {"files do not come",
     {.no_net = "Access denied"},
     "net",
     MOSAICUM_SYSTEM,
     "nothing came",
     false},
};

/* Whatever fails is told truly, nothing half-written starts, and the next time it is whole. */
static void every_fault_is_told(void) {
    struct scene s;
    scene_start(&s, "mmc");
    for (size_t i = 0; i < sizeof faults / sizeof *faults; i++) {
        memset(board_storage(s.board), 0x5a, DISK);
        board_fails(s.board, faults[i].fault);
        struct result r = go(&s, faults[i].way);
        bool good = r.status == faults[i].status && strstr(r.results, faults[i].says) &&
                    is_whole(&s) == faults[i].whole && (faults[i].whole || !can_start(&s)) &&
                    (faults[i].whole || !has_table(&s) || !board_written(s.board));
        if (!good)
            fprintf(stderr, "\n%s: status %d, %s %s\n", faults[i].what, r.status, r.error,
                    r.results);
        CU_ASSERT(good);
        board_fails(s.board, (struct board_fault){0});
        CU_ASSERT_EQUAL(go(&s, "net").status, MOSAICUM_DONE);
        CU_ASSERT(is_whole(&s));
    }
    scene_end(&s);
}

/* Of what a ROM starts the beginning comes last, and nothing is written behind it. */
static void the_beginning_comes_last(void) {
    struct scene s;
    scene_start(&s, "mmc");
    CU_ASSERT_EQUAL(go(&s, "line").status, MOSAICUM_DONE);
    const char *last = NULL;
    unsigned long long ram, at = 0, count;
    for (const char *p = board_typed(s.board); (p = strstr(p, "mmc write")); p++)
        last = p;
    CU_ASSERT_PTR_NOT_NULL_FATAL(last);
    CU_ASSERT_EQUAL(sscanf(last, "mmc write %llx %llx %llx", &ram, &at, &count), 3);
    CU_ASSERT_EQUAL(at * 512, FIRST_AT);
    CU_ASSERT(count * 512 < 100000); /* there was more than one piece of it */
    scene_end(&s);
}

/* A new build over an old one, ended at every command: the old one, or none, and never a mixture
 * that starts; then the same command goes on. */
static void ends_at_every_command(void) {
    struct scene s;
    scene_start(&s, "mmc");
    CU_ASSERT_EQUAL(go(&s, "net").status, MOSAICUM_DONE);
    uint8_t *old = malloc(DISK);
    memcpy(old, board_storage(s.board), DISK);
    put_piece(&s, "first", 100000, 11);
    put_piece(&s, "loader", 300001, 12);
    put_board(&s, two_ways);
    board_fails(s.board, (struct board_fault){0});
    CU_ASSERT_EQUAL(go(&s, "net").status, MOSAICUM_DONE);
    unsigned long all = board_commands(s.board);
    CU_ASSERT(all > 100 && all < 2000);
    size_t halves = 0;
    for (unsigned long k = 1, turn = 0; k < all; k += 1 + all / 60, turn++) {
        memcpy(board_storage(s.board), old, DISK);
        board_fails(s.board, (struct board_fault){.dies_after = k});
        struct result r = go(&s, turn % 2 ? "line" : "net");
        CU_ASSERT_EQUAL(r.status, MOSAICUM_SYSTEM);
        bool untouched = memcmp(board_storage(s.board), old, DISK) == 0;
        if (!untouched &&
            (can_start(&s) || memcmp(board_storage(s.board) + FIRST_AT, old + FIRST_AT, 512) == 0))
            CU_ASSERT(is_whole(&s)); /* only what was read back last is missing */
        halves += !untouched && !can_start(&s);
        board_fails(s.board, (struct board_fault){0});
        CU_ASSERT_EQUAL(go(&s, "net").status, MOSAICUM_DONE);
        CU_ASSERT(is_whole(&s));
    }
    CU_ASSERT(halves > 5);
    free(old);
    scene_end(&s);
}

/* A board that starts anew in the middle has another current device: nothing goes there. */
static void a_reset_leads_to_no_other_device(void) {
    static const char *const kinds[] = {"mmc", "virtio"};
    for (size_t i = 0; i < 2; i++) {
        struct scene s;
        scene_start(&s, kinds[i]);
        for (unsigned long k = 8; k < 130; k += 3) {
            board_fails(s.board, (struct board_fault){.resets_after = k});
            struct result r = go(&s, "net");
            CU_ASSERT(r.status == MOSAICUM_SYSTEM || is_whole(&s));
            CU_ASSERT_EQUAL(board_strays(s.board), 0);
            memset(board_storage(s.board) + 512 * KIB, 0x5a, 300000);
        }
        board_fails(s.board, (struct board_fault){0});
        CU_ASSERT_EQUAL(go(&s, "net").status, MOSAICUM_DONE);
        CU_ASSERT(is_whole(&s));
        scene_end(&s);
    }
}

static void another_part_is_left_alone(void) {
    struct scene s;
    scene_start(&s, "virtio");
    static const struct {
        const char *name;
        uint64_t size;
    } others[] = {{"Tern9", DISK}, {"Tern8", DISK / 2}, {"Tern8", 2 * DISK}, {"", DISK}};
    for (size_t i = 0; i < 4; i++) {
        struct board_made *mine = s.board;
        s.board = board_new("virtio", others[i].name, others[i].size);
        struct result r = go(&s, "net");
        CU_ASSERT_EQUAL(r.status, MOSAICUM_REFUSED);
        CU_ASSERT_STRING_EQUAL(r.rules, "board.programming");
        CU_ASSERT_EQUAL(board_written(s.board), 0);
        CU_ASSERT_PTR_NULL(strstr(board_typed(s.board), "virtio write"));
        board_free(s.board);
        s.board = mine;
    }
    scene_end(&s);
}

/* What stays stays, and a region alone needs the layout. */
static void regions_stay_or_are_refused(void) {
    struct scene s;
    scene_start(&s, "mmc");
    struct result r = go(&s, "part");
    CU_ASSERT_EQUAL(r.status, MOSAICUM_REFUSED);
    CU_ASSERT_EQUAL(board_written(s.board), 0);
    CU_ASSERT_EQUAL(go(&s, "net").status, MOSAICUM_DONE);
    memcpy(board_storage(s.board) + MIB, "number 7", 8);        /* the factory's */
    memset(board_storage(s.board) + 512 * KIB + 1000, 0, 1000); /* of region loader */
    memset(board_storage(s.board) + FIRST_AT + 50000, 0, 1000); /* of region first */
    CU_ASSERT_EQUAL(go(&s, "part").status, MOSAICUM_DONE);
    CU_ASSERT(memcmp(board_storage(s.board) + 512 * KIB, s.bytes + 512 * KIB, 300001) == 0);
    CU_ASSERT(memcmp(board_storage(s.board) + FIRST_AT, s.bytes + FIRST_AT, 100000) != 0);
    CU_ASSERT(has_table(&s));
    for (unsigned long k = 5; k < 60; k += 9) { /* interrupted, it still knows that it stays */
        memset(board_storage(s.board) + FIRST_AT + 50000, 0, 1000);
        board_fails(s.board, (struct board_fault){.dies_after = k});
        go(&s, "net");
        board_fails(s.board, (struct board_fault){0});
        CU_ASSERT_EQUAL(go(&s, "net").status, MOSAICUM_DONE);
        CU_ASSERT(memcmp(board_storage(s.board) + FIRST_AT, s.bytes + FIRST_AT, 100000) == 0);
        CU_ASSERT(memcmp(board_storage(s.board) + MIB, "number 7", 8) == 0);
    }
    board_power(s.board);
    r = program(&s, (struct mosaicum_program){.way = "net", .all_regions = true},
                (struct result){0});
    CU_ASSERT_EQUAL(r.status, MOSAICUM_DONE);
    CU_ASSERT(memcmp(board_storage(s.board) + MIB, "number 7", 8) != 0);
    scene_end(&s);
}

static const char *const long_way =
    "  bench:\n    steps:\n"
    "      jumper: {person: Close jumper J4.}\n"
    "      power: {person: Give it power., prompt: yes, within: 5}\n"
    "      load: {command: [sh, -c, \"test -f $0 && echo finished\", <image>], sees: finished}\n"
    "      set: {type: [\"setenv a b\"]}\n"
    "      fuse: {type: [\"echo fuse\"], fuse: yes}\n"
    "      again: {type: [reset], sees: Starting the system, within: 20}\n"
    "      open: {person: Open jumper J4., back: yes}\n"
    "  wrong:\n    steps:\n"
    "      power: {prompt: yes}\n"
    "      bogus: {type: [bogus]}\n"
    "      after: {type: [\"echo after\"]}\n"
    "      open: {person: Open jumper J4., back: yes}\n"
    "  maker:\n    steps:\n      load: {command: [sh, -c, exit 3]}\n"
    "  silent:\n    steps:\n      load: {command: [\"true\"], sees: finished}\n"
    "  blind:\n    steps:\n      wait: {person: Look., sees: never, within: 3}\n";

static void steps_in_their_order(void) {
    struct scene s;
    scene_start(&s, "mmc");
    put_board(&s, long_way);
    static const struct {
        const char *way;
        bool steps_done, alone;
        const char *confirms;
        enum mosaicum_status status;
        const char *results;
    } cases[] = {
        {"bench", false, false, NULL, MOSAICUM_DONE,
         "done | done | done | done | done | done | done"},
        {"bench", true, false, "fuse", MOSAICUM_DONE,
         "done | done | done | done | done | done | done"},
        {"bench", true, true, NULL, MOSAICUM_SYSTEM,
         "done | done | done | done | nobody has confirmed what can never be taken back | not "
         "begun "
         "| done"},
        {"bench", false, true, NULL, MOSAICUM_SYSTEM,
         "nobody has confirmed it; --steps-done says that it is done | not begun | not begun | not "
         "begun | not begun | not begun | nobody has confirmed it; --steps-done says that it is "
         "done"},
        {"bench", false, false, "jumper open", MOSAICUM_SYSTEM,
         "done | done | done | done | nobody has confirmed what can never be taken back | not "
         "begun "
         "| done"},
        {"wrong", false, false, NULL, MOSAICUM_SYSTEM,
         "done | the loader has no command bogus | not begun | done"},
        {"maker", false, false, NULL, MOSAICUM_SYSTEM, "sh ended with status 3"},
        {"silent", false, false, NULL, MOSAICUM_SYSTEM, "true did not say \"finished\""},
        {"blind", false, false, NULL, MOSAICUM_SYSTEM, "\"never\" did not come within 3 s"},
    };
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        board_power(s.board);
        struct result r = program(
            &s, (struct mosaicum_program){.way = cases[i].way, .steps_done = cases[i].steps_done},
            (struct result){.confirms = cases[i].confirms, .alone = cases[i].alone});
        if (r.status != cases[i].status || strcmp(r.results, cases[i].results) != 0)
            fprintf(stderr, "\n%zu %s: %d %s %s\n", i, cases[i].way, r.status, r.error, r.results);
        CU_ASSERT_EQUAL(r.status, cases[i].status);
        CU_ASSERT_STRING_EQUAL(r.results, cases[i].results);
    }
    scene_end(&s);
}

/* Nothing begins without consent, and nothing but what was built. */
static void nothing_without_consent(void) {
    struct scene s;
    scene_start(&s, "mmc");
    static const char *const wrong[] = {"AAAA", NULL};
    struct result r = program(&s, (struct mosaicum_program){.way = "net", .yes = wrong},
                              (struct result){.alone = true});
    CU_ASSERT_EQUAL(r.status, MOSAICUM_REFUSED);
    const char *token = strstr(r.error, "--yes ");
    CU_ASSERT_PTR_NOT_NULL_FATAL(token);
    char letters[5] = "";
    memcpy(letters, token + 6, 4);
    const char *const right[] = {letters, NULL};
    r = program(&s, (struct mosaicum_program){.way = "net", .yes = right},
                (struct result){.alone = true});
    CU_ASSERT_EQUAL(r.status, MOSAICUM_DONE);
    put_piece(&s, "loader", 300001, 77); /* another build: another token, and it must be made */
    r = program(&s, (struct mosaicum_program){.way = "net", .yes = right}, (struct result){0});
    CU_ASSERT_EQUAL(r.status, MOSAICUM_REFUSED);
    CU_ASSERT_PTR_NOT_NULL(strstr(r.error, "mosaicum build curlew"));
    CU_ASSERT_EQUAL(build(&s), MOSAICUM_DONE);
    r = program(&s, (struct mosaicum_program){.way = "net", .yes = right}, (struct result){0});
    CU_ASSERT_EQUAL(r.status, MOSAICUM_REFUSED);
    s.bytes[700000] ^= 1;
    write_file(s.image, s.bytes, s.size);
    r = program(&s, (struct mosaicum_program){.way = "net"}, (struct result){0});
    CU_ASSERT_EQUAL(r.status, MOSAICUM_REFUSED);
    CU_ASSERT_STRING_EQUAL(r.rules, "write.image-damaged");
    CU_ASSERT_EQUAL(
        program(&s, (struct mosaicum_program){.way = "none"}, (struct result){0}).status,
        MOSAICUM_USAGE);
    scene_end(&s);
}

static void boards_are_counted(void) {
    struct scene s;
    scene_start(&s, "mmc");
    board_fails(s.board, (struct board_fault){.dies_after = 50});
    struct result r =
        program(&s, (struct mosaicum_program){.way = "net", .boards = 3, .unit = "jetty"},
                (struct result){0});
    CU_ASSERT_EQUAL(r.status, MOSAICUM_SYSTEM);
    CU_ASSERT_PTR_NOT_NULL(strstr(r.results, "no longer answers"));
    CU_ASSERT_PTR_NOT_NULL(strstr(r.told, "next | power"));
    char *record = read_whole(path_in(s.folder, "written.jsonl"), NULL);
    CU_ASSERT(record && strstr(record, "jetty-1"));
    free(record);
    scene_end(&s);
}

/* ---- it becomes a disk ---- */

static const char *const disk_way = "  disk:\n    steps:\n"
                                    "      button: {person: Hold the button and plug it in.}\n"
                                    "      write: {write: store, by: usb-disk, usb: {vendor: "
                                    "0x1209, product: 0x0001}, within: 20}\n";

static const char *plugged;

static bool plug(struct made_up *m, unsigned at) {
    return at == 1 ? made_up_plug(m, plugged) : at < 4;
}

static void the_board_becomes_a_disk(void) {
    struct scene s;
    scene_start(&s, "mmc");
    put_board(&s, disk_way);
    static const struct {
        const char *there, *comes;
        enum mosaicum_status status;
        const char *says;
    } cases[] = {
        {"", "disk sda 8:0 8M bus=usb model=Tern8 port=1-1 vendor-id=1209 product-id=0001",
         MOSAICUM_DONE, "written to /dev/sda"},
        {"", "disk sda 8:0 8M bus=usb model=Tern8 port=1-1 vendor-id=1209 product-id=0002",
         MOSAICUM_SYSTEM, "no USB disk 1209:0001 came"},
        {"disk sda 8:0 8M bus=usb model=Tern8 port=1-1 vendor-id=1209 product-id=0001\n",
         "disk sdb 8:16 8M bus=usb model=Other port=1-2 vendor-id=1209 product-id=0002",
         MOSAICUM_SYSTEM, "was there before the steps began"},
        {"", "disk sda 8:0 4M bus=usb model=Tern8 port=1-1 vendor-id=1209 product-id=0001",
         MOSAICUM_REFUSED, "was not written"},
    };
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        char why[200] = "";
        char text[300];
        snprintf(text, sizeof text, "disk vda 254:0 8M bus=virtio\n%s", cases[i].there);
        struct made_up *m = made_up_new(text, NULL, why, sizeof why);
        CU_ASSERT_PTR_NOT_NULL_FATAL(m);
        plugged = cases[i].comes;
        made_up_when_waiting(m, plug);
        s.host.computer = made_up_computer(m);
        struct result r = program(&s, (struct mosaicum_program){.way = "disk"}, (struct result){0});
        if (r.status != cases[i].status)
            fprintf(stderr, "\n%zu: %d %s %s %s\n", i, r.status, r.error, r.rules, r.results);
        CU_ASSERT_EQUAL(r.status, cases[i].status);
        CU_ASSERT_PTR_NOT_NULL(strstr(r.results, cases[i].says));
        if (r.status == MOSAICUM_DONE)
            CU_ASSERT(memcmp(made_up_device(m, "sda")->bytes + 512 * KIB, s.bytes + 512 * KIB,
                             300001) == 0);
        made_up_free(m);
        s.host.computer = NULL;
    }
    scene_end(&s);
}

/* ---- what cannot work ---- */

static const char hopeless[] =
    "mosaicum: 1\n"
    "board: curlew\n"
    "hardware:\n"
    "  cpu: arm64\n"
    "  ram: {main: {start: 0x40000000, sizes: [512 MiB]}}\n"
    "  held: {loader: {top: 40 MiB}}\n"
    "  media:\n"
    "    store: {kind: emmc, size: 64 MiB, loader: mmc 1, areas: {boot0: 4 MiB}}\n"
    "    flash: {kind: nor, size: 8 MiB, erase: 64 KiB, loader: sf 0}\n"
    "    raw: {kind: nand, size: 128 MiB, erase: 128 KiB, page: 2 KiB, loader: nand 0}\n"
    "    bare: {kind: emmc, size: 64 MiB}\n"
    "loader: {dialect: u-boot, facts: {config: loader.config}}\n"
    "pieces: {a: {file: a}}\n"
    "layout: {store: {regions: {a: {at: 1 MiB, size: 1 MiB, piece: a}, b: {at: 4 MiB, size: 1 MiB, "
    "piece: a}}}}\n"
    "programming:\n"
    "  empty: {steps: {}}\n"
    "  small:\n"
    "    window: {start: 0x42000000, size: 64 KiB}\n"
    "    steps:\n"
    "      early: {write: store, by: network, names: [QEMU!]}\n"
    "  high:\n"
    "    window: {start: 0x5e000000, size: 16 MiB}\n"
    "    steps:\n"
    "      power: {prompt: yes}\n"
    "      main: {write: store, by: network}\n"
    "      flash: {write: flash, by: serial, names: [sst25wf080]}\n"
    "      raw: {write: raw, by: network, names: [nand]}\n"
    "      bare: {write: bare, by: network, names: [QEMU!]}\n"
    "      how: {write: store}\n"
    "      what: {by: network}\n"
    "      idle: {within: 3}\n"
    "      both: {type: [reset], command: [true]}\n"
    "  disk:\n"
    "    steps:\n"
    "      write: {write: store, by: usb-disk, area: boot0}\n"
    "  upgrade:\n"
    "    steps:\n"
    "      loader: {write: store, by: dfu, regions: [a, b]}\n";

static const char *const told[] = {
    "Way empty has no steps",
    "does not hold two pieces of 64 KiB",
    "Nobody has stopped the loader before step early of way small",
    "The window of way high is not within the RAM that is free",
    "What the part is called is not said in step main of way high",
    "without the command sf, which step flash",
    "without the command loady, which step flash",
    "nand 0 cannot be written in step raw",
    "What the loader calls bare is not said",
    "How the image gets to the board is not said in step how",
    "Nothing is written in step what",
    "Nothing is done in step idle",
    "More than one thing is done in step both",
    "Which USB disk the board becomes is not said",
    "An area is no disk of its own",
    "Which USB device the board becomes is not said",
    "More than one region goes to one place",
};

static void what_cannot_work_is_told(void) {
    enum { TOLD = sizeof told / sizeof *told };
    char *w = keep(test_folder("hopeless"));
    struct mosaicum_options o = {.host = mos_platform_host(), .workspace = w};
    write_text(path_in(w, "mosaicum.yaml"), "mosaicum: 1\nworkspace: saltmarsh-survey\n");
    write_text(path_in(w, "boards/curlew.yaml"), hopeless);
    write_text(path_in(w, "a"), "a");
    write_text(path_in(w, "loader.config"), "CONFIG_CMD_MMC=y\n"
                                            "# CONFIG_CMD_SF is not set\n"
                                            "# CONFIG_CMD_LOADB is not set\n"
                                            "CONFIG_CMD_TFTPBOOT=y\n");
    mosaicum *m = mosaicum_new(&o);
    CU_ASSERT_EQUAL(mosaicum_check(m, NULL, 0), MOSAICUM_FINDINGS);
    CU_ASSERT_EQUAL(mosaicum_finding_count(m), TOLD);
    for (size_t i = 0; i < mosaicum_finding_count(m) && i < TOLD; i++) {
        const struct mosaicum_finding *f = mosaicum_finding_at(m, i);
        CU_ASSERT_STRING_EQUAL(f->rule, "board.programming");
        if (!strstr(f->message, told[i]))
            fprintf(stderr, "\n%s\n", f->message);
        CU_ASSERT_PTR_NOT_NULL(strstr(f->message, told[i]));
    }
    mosaicum_free(m);
}

/* What is accepted on purpose is no way either, and nothing is done of it. */
static const char waived[] =
    "mosaicum: 1\nboard: curlew\nhardware:\n  media:\n"
    "    store: {kind: emmc, size: 8 MiB, loader: mmc 0}\n    other: {kind: emmc, size: 8 MiB}\n"
    "    raw: {kind: nand, size: 8 MiB, erase: 128 KiB, page: 2 KiB, loader: nand 0}\n%s"
    "programming:\n  bad:\n    steps:\n      power: {person: Give it power., prompt: yes}\n"
    "      write: {write: %s}\n"
    "waivers:\n  a: {rule: board.programming, place: programming, reason: on purpose}\n";

static void a_waiver_makes_no_way(void) {
    static const char u_boot[] = "loader: {dialect: u-boot}\n";
    static const struct {
        const char *loader, *write, *says;
    } cases[] = {
        {u_boot, "store", "how the image gets there"},
        {u_boot, "store, by: usb-disk", "no USB device"},
        {u_boot, "store, by: dfu", "no USB device"},
        {u_boot, "other, by: network, names: [a]", "what the loader calls"},
        {u_boot, "raw, by: serial, names: [a]", "bad blocks"},
        {"", "store, by: serial, names: [a]", "no loader that takes commands"},
    };
    struct scene s;
    scene_start(&s, "mmc");
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        char text[1000];
        snprintf(text, sizeof text, waived, cases[i].loader, cases[i].write);
        write_text(path_in(s.folder, "boards/curlew.yaml"), text);
        struct result r = go(&s, "bad");
        CU_ASSERT_EQUAL(r.status, MOSAICUM_USAGE);
        if (!strstr(r.error, cases[i].says))
            fprintf(stderr, "\n%s: %d %s %s\n", cases[i].write, r.status, r.error, r.rules);
        CU_ASSERT_PTR_NOT_NULL(strstr(r.error, cases[i].says));
        CU_ASSERT_PTR_NOT_NULL(strstr(r.error, "Step write cannot work"));
        CU_ASSERT_EQUAL(board_commands(s.board), 0);
    }
    scene_end(&s);
}

/* ---- what was consented to ---- */

static void damage_image(struct scene *s) {
    s->bytes[700000] ^= 1;
    write_file(s->image, s->bytes, s->size);
}

static void build_another(struct scene *s) {
    put_piece(s, "loader", 300001, 78);
    CU_ASSERT_EQUAL(build(s), MOSAICUM_DONE);
}

static void remove_image(struct scene *s) {
    CU_ASSERT_EQUAL(remove(s->image), 0);
}

static const char *const other_ways =
    "  net:\n    steps:\n      power: {person: Give it power., prompt: yes, within: 5}\n"
    "      write: {write: store, by: network, names: [Tern8]}\n"
    "  upgrade:\n    steps:\n      power: {person: Give it power.}\n"
    "      write: {write: store, by: dfu, usb: {vendor: 0x1209, product: 0x0002}, place: main}\n";

/* Whatever becomes of the image while the steps before it are done, no other one gets to the board.
 */
static void only_what_was_consented_to(void) {
    static const char *const ways[] = {"net", "upgrade"};
    static const struct {
        void (*meanwhile)(struct scene *s);
        const char *says;
    } cases[] = {{damage_image, "not what was built"},
                 {build_another, "of another build by now"},
                 {remove_image, "cannot be opened"}};
    for (size_t i = 0; i < 6; i++) {
        struct scene s;
        scene_start(&s, "mmc");
        put_board(&s, other_ways);
        board_power(s.board);
        struct result r =
            program(&s, (struct mosaicum_program){.way = ways[i / 3]},
                    (struct result){.meanwhile = cases[i % 3].meanwhile, .scene = &s});
        CU_ASSERT(r.status != MOSAICUM_DONE);
        if (!strstr(r.results, cases[i % 3].says))
            fprintf(stderr, "\n%s: %d %s | %s\n", ways[i / 3], (int)r.status, r.error, r.results);
        CU_ASSERT_PTR_NOT_NULL(strstr(r.results, cases[i % 3].says));
        CU_ASSERT_EQUAL(board_written(s.board), 0);
        scene_end(&s);
    }
}

SUITE(programming_suite, {"every kind of storage, both ways", every_kind_both_ways},
      {"every fault is told", every_fault_is_told},
      {"the beginning comes last", the_beginning_comes_last},
      {"ends at every command", ends_at_every_command},
      {"a reset leads to no other device", a_reset_leads_to_no_other_device},
      {"another part is left alone", another_part_is_left_alone},
      {"regions stay, or are refused", regions_stay_or_are_refused},
      {"steps in their order", steps_in_their_order},
      {"nothing without consent", nothing_without_consent},
      {"only what was consented to", only_what_was_consented_to},
      {"boards are counted", boards_are_counted},
      {"the board becomes a disk", the_board_becomes_a_disk},
      {"what cannot work is told", what_cannot_work_is_told},
      {"a waiver makes no way", a_waiver_makes_no_way});
