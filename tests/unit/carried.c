/* Is this card what was built?  Cards are edited in every way, and what is told about that is done:
 * the next build has the edits, too. */
#include "support.h"

#include "computer/scene.h"
#include "ledger/ledger.h"
#include "linux/running.h"

#include <stdlib.h>
#include <string.h>

static const char board[] =
    "mosaicum: 1\nboard: curlew\n"
    "hardware: {media: {card: {kind: sd, size: {at-least: 64 MiB, at-most: 64 GiB}}}}\n"
    "pieces:\n  loader: {file: pieces/loader.bin, license: MIT}\n%s"
    "loader:\n  dialect: u-boot\n  environments:\n"
    "    main: {base: none, size: 16 KiB, values: {%s}, per-unit: {ethaddr: "
    "\"02:00:5e:<UNIT:3>\"}}\n"
    "layout:\n  card:\n    table: {kind: gpt}\n    regions:\n"
    "      loader: {at: 1 MiB, size: 128 KiB, piece: loader}\n"
    "      env: {at: 2 MiB, environment: main}\n"
    "      boot: {number: 1, size: 4 MiB, volume: {kind: fat12, label: BOOT, fills: "
    "{files: {folder: boot}}}}\n"
    "      root: {number: 2, size: 12 MiB, volume: {kind: ext4, label: root, fills: "
    "{files: {folder: root%s}%s}}}\n"
    "      data: {number: 3, size: 8 MiB, owner: device, volume: {kind: ext4, label: data, fills: "
    "{files: {folder: data}}}}\n";

static const char values[] = "boot_note: tide, bootdelay: \"2\"";

static void put_board(const struct scene *s, const char *pieces, const char *variables,
                      const char *except, const char *edits) {
    char text[8192];
    snprintf(text, sizeof text, board, pieces, variables, except, edits);
    write_text(path_in(s->folder, "boards/curlew.yaml"), text);
}

static void build(const struct scene *s) {
    CU_ASSERT_TRUE_FATAL(runs(0, "cd '%s' && '%s' build curlew --no-cache > /dev/null", s->folder,
                              MOSAICUM_PROGRAM));
}

static void start(struct scene *s) {
    static const char *const files[] = {"boot/kernel",     "root/etc/hostname", "root/etc/motd",
                                        "root/bin/gauge",  "data/tides",        "root/etc/a b/c",
                                        "root/var/log/old"};
    scene_start(s);
    scene_has_device_files(s);
    remove_folder(path_in(s->folder, "out"));
    for (size_t i = 0; i < sizeof files / sizeof *files; i++)
        write_text(path_in(s->folder, "%s", files[i]), files[i]);
    write_text(path_in(s->folder, "new"), "what somebody wrote\n");
    write_text(path_in(s->folder, "pieces/loader.bin"), "a loader, or what looks like one");
    put_board(s, "", values, "", "");
    build(s);
}

/* The columns of a table, a row a line with ; between the cells. */
struct text {
    struct mos_buf *to;
    size_t columns;
};

static bool add_row(void *self, const struct mosaicum_cell *cells) {
    struct text *t = self;
    for (size_t i = 0; i < t->columns; i++)
        mos_buf_printf(t->to, "%s%s", cells[i].text ? cells[i].text : "",
                       i + 1 < t->columns ? ";" : "\n");
    return true;
}

static const char *rows_of(struct scene *s, mosaicum *run, const char *key) {
    struct mos_buf b = {.arena = s->core.ctx.arena};
    for (size_t i = 0; i < mosaicum_table_count(run); i++) {
        const struct mosaicum_table *t = mosaicum_table_at(run, i);
        struct text text = {&b, t->column_count};
        if (strcmp(t->key, key) == 0)
            mosaicum_table_rows(run, t, add_row, &text);
    }
    return b.length ? mos_buf_string(&b) : "";
}

static size_t lines_in(const char *text) {
    size_t n = 0;
    for (; *text; text++)
        n += *text == '\n';
    return n;
}

struct answer {
    enum mosaicum_status status;
    const char *edited, *keep, *running, *title;
};

/* Compares the image of the last build with a device of `mib` that another image was written on. */
static struct answer compare(struct scene *s, const char *card, unsigned mib) {
    struct made_up *m = scene_card(mib, "");
    struct made_up_device *d = made_up_device(m, "sdb");
    d->bytes = calloc(1, (size_t)d->size);
    CU_ASSERT_EQUAL(scene_write(s, m, (struct mosaicum_write){.what = card}, "/dev/sdb").status,
                    MOSAICUM_DONE);
    s->host.computer = made_up_computer(m);
    struct mosaicum_options o = {.host = &s->host, .workspace = s->folder};
    mosaicum *run = mosaicum_new(&o);
    struct answer a;
    a.status = mosaicum_compare(run, path_in(s->folder, "out/curlew/card.img"), "/dev/sdb");
    a.edited = rows_of(s, run, "edited");
    a.keep = rows_of(s, run, "keep");
    a.running = rows_of(s, run, "running");
    const struct mosaicum_table *first =
        mosaicum_table_count(run) ? mosaicum_table_at(run, 0) : NULL;
    a.title = mos_strdup(s->core.ctx.arena, first && first->title ? first->title : "");
    if (a.status > MOSAICUM_FINDINGS)
        fprintf(stderr, "\n%s\n", mosaicum_error(run) ? mosaicum_error(run) : "no error");
    mosaicum_free(run);
    made_up_free(m);
    return a;
}

/* One edit each: as `amend` takes it; what is told, and how the definition has it. */
static const struct {
    const char *change, *edited, *keep, *running;
} edits[] = {
    {"root:etc/hostname=new", "changed;/etc/hostname", "take /dev/sdb root:/etc/hostname", ""},
    {"root:etc/tide=new", "added;/etc/tide;;20 bytes", "root:/etc/tide -o edits", ""},
    {"'root:etc/a b/c=new'", "changed;/etc/a b/c", "'root:/etc/a b/c' -o 'edits", ""},
    {"root:~etc/motd", "removed;/etc/motd", "except: [etc/motd]", ""},
    {"boot:kernel=new", "changed;/kernel", "edits/boot/kernel", ""},
    {"'2 MiB:bootdelay=9'", "changed;bootdelay;2;9", "values: {bootdelay: 9}", ""},
    {"'2 MiB:site=a: b'", "added;site;;a: b", "values: {site: \"a: b\"}", ""},
    {"'2 MiB:boot_note='", "boot_note", "boot_note", ""},
    {"'1 MiB=new'", "bytes", "take /dev/sdb '1 MiB' -o 'edits/1 MiB.bin', as the region's piece",
     ""},
    {"root:var/log/old=new", "", "", "/var/log/old;a log"},
    {"root:etc/machine-id=new", "", "", "made at the first start"},
    {"root:home/a/.ash_history=new", "", "", "history"},
    {"data:tides=new", "", "", "belongs to the running board"},
    {"'2 MiB:ethaddr=02:00:5e:00:00:07'", "", "", "each board has its own"},
};

static void edits_are_told_apart(void) {
    struct scene s;
    start(&s);
    struct answer none = compare(&s, path_in(s.folder, "out/curlew/card.img"), 64);
    CU_ASSERT_EQUAL(none.status, MOSAICUM_DONE);
    CU_ASSERT_STRING_EQUAL(none.edited, "");
    CU_ASSERT_STRING_EQUAL(none.running, "");
    for (size_t i = 0; i < sizeof edits / sizeof *edits; i++)
        for (unsigned mib = 64; mib < 200; mib += 70) {
            CU_ASSERT_TRUE_FATAL(
                runs(0,
                     "cd '%s' && rm -f edited && '%s' amend out/curlew/card.img %s "
                     "-o edited > /dev/null",
                     s.folder, MOSAICUM_PROGRAM, edits[i].change));
            struct answer a = compare(&s, path_in(s.folder, "edited"), mib);
            bool edit = *edits[i].edited;
            CU_ASSERT_EQUAL(a.status, edit ? MOSAICUM_FINDINGS : MOSAICUM_DONE);
            CU_ASSERT_EQUAL(lines_in(a.edited) > 0, edit);
            CU_ASSERT_EQUAL(lines_in(a.keep) > 0, edit);
            bool good = edit == (*a.edited != 0) && strstr(a.edited, edits[i].edited) &&
                        strstr(a.keep, edits[i].keep) && strstr(a.running, edits[i].running);
            if (!good)
                fprintf(stderr, "\n%s:\n%s%s%s", edits[i].change, a.edited, a.keep, a.running);
            CU_ASSERT_TRUE(good);
            CU_ASSERT_TRUE(!edit || strstr(a.keep, "boards/curlew.yaml:"));
        }
    scene_end(&s);
}

/* Does what the answer says: takes with the commands, into the folder of the workspace. */
static void fetch(const struct scene *s, const char *keep, const char *card) {
    for (const char *p = keep; (p = strstr(p, "mosaicum take /dev/sdb ")) != NULL;) {
        const char *end = strchr(p, '\n');
        CU_ASSERT_PTR_NOT_NULL_FATAL(end);
        p += strlen("mosaicum take /dev/sdb ");
        CU_ASSERT_TRUE(runs(0, "cd '%s' && '%s' take '%s' %.*s > /dev/null", s->folder,
                            MOSAICUM_PROGRAM, card, (int)(end - p), p));
    }
}

static void the_advice_brings_the_edits(void) {
    static const char edited[] =
        "root:etc/hostname=new root:etc/tide=new root:~etc/motd 'root:etc/a b/c=new' "
        "root:sbin/it=new '2 MiB:bootdelay=9' '2 MiB:site=west: 1' root:var/log/new=new";
    struct scene s;
    start(&s);
    const char *card = keep(path_in(s.folder, "edited"));
    CU_ASSERT_TRUE_FATAL(runs(0,
                              "cd '%s' && '%s' amend out/curlew/card.img %s -o edited > /dev/null",
                              s.folder, MOSAICUM_PROGRAM, edited));
    struct answer a = compare(&s, card, 64);
    CU_ASSERT_EQUAL(a.status, MOSAICUM_FINDINGS);
    CU_ASSERT_PTR_NOT_NULL(strstr(a.keep, "edits: {folder: edits/root, replaces: yes}"));
    CU_ASSERT_PTR_NOT_NULL(strstr(a.keep, "except: [etc/motd]"));
    CU_ASSERT_PTR_NOT_NULL(strstr(a.keep, "values: {bootdelay: 9, site: \"west: 1\"}"));
    fetch(&s, a.keep, card);
    put_board(&s, "", "boot_note: tide, bootdelay: \"9\", site: \"west: 1\"",
              ", except: [etc/motd]", ", edits: {folder: edits/root, replaces: yes}");
    build(&s);
    a = compare(&s, card, 64);
    if (*a.edited)
        fprintf(stderr, "\n%s", a.edited);
    CU_ASSERT_EQUAL(a.status, MOSAICUM_DONE);
    CU_ASSERT_STRING_EQUAL(a.edited, "");
    CU_ASSERT_PTR_NOT_NULL(strstr(a.running, "a log"));
    scene_end(&s);
}

/* Where a region of the build begins. */
static uint64_t place_of(struct scene *s, const char *region) {
    struct mos_ledger_image_last last;
    CU_ASSERT_TRUE_FATAL(mos_ledger_image_last(
        &s->core.ctx, path_in(s->folder, "out/curlew/ledger.json"), "card.img", &last));
    for (size_t i = 0; i < last.regions.count; i++) {
        const struct mos_ledger_region_last *r = mos_vec_at(&last.regions, i);
        if (strcmp(r->name, region) == 0)
            return r->offset;
    }
    return UINT64_MAX;
}

/* What a card holds where a volume began is no volume any more, or cannot be read whole: that is no
 * journal, and nobody says that the card is what was built. */
static void a_destroyed_volume_is_told(void) {
    static const struct {
        const char *region;
        uint64_t at, length;
    } holes[] = {{"root", 0, 4096},    {"root", 1024, 1024}, {"root", 2048, 1024}, {"boot", 0, 512},
                 {"boot", 512, 32768}, {"env", 0, 4096},     {"loader", 0, 16}};
    struct scene s;
    start(&s);
    const char *image = keep(path_in(s.folder, "out/curlew/card.img")),
               *card = keep(path_in(s.folder, "edited"));
    for (size_t i = 0; i < sizeof holes / sizeof *holes; i++) {
        size_t length;
        char *bytes = read_whole(image, &length);
        memset(bytes + place_of(&s, holes[i].region) + holes[i].at, 0, (size_t)holes[i].length);
        write_file(card, bytes, length);
        free(bytes);
        struct answer a = compare(&s, card, 64);
        bool told = a.status == MOSAICUM_FINDINGS && !strstr(a.title, "nothing was edited");
        if (!told)
            fprintf(stderr, "\n%s at %u: %d %s\n%s%s", holes[i].region, (unsigned)holes[i].at,
                    (int)a.status, a.title, a.edited, a.running);
        CU_ASSERT_TRUE(told);
    }
    scene_end(&s);
}

/* A file that was edited is seen behind any number of others. */
static void edits_are_seen_among_many(void) {
    struct scene s;
    start(&s);
    CU_ASSERT_TRUE_FATAL(
        runs(0,
             "cd '%s' && mkdir root/many && cd root/many && seq 21000 | xargs touch "
             "-d 2026-01-01",
             s.folder));
    char text[8192];
    snprintf(text, sizeof text, board, "", values, "", "");
    char *size = strstr(text, "size: 12 MiB");
    CU_ASSERT_PTR_NOT_NULL_FATAL(size);
    memcpy(size, "size: 24 MiB", 12);
    write_text(path_in(s.folder, "boards/curlew.yaml"), text);
    build(&s);
    uint64_t at = place_of(&s, "root");
    /* the last one that a reader comes to */
    CU_ASSERT_TRUE_FATAL(
        runs(0,
             "cd '%s' && cp out/curlew/card.img edited && f=$('%s' inspect edited "
             "--files | grep '^many/' | tail -n 1 | cut -d ' ' -f 1) && debugfs -w -R "
             "\"sif /$f mtime 20280101\" 'edited?offset=%llu' 2>/dev/null",
             s.folder, MOSAICUM_PROGRAM, (unsigned long long)at));
    struct made_up *m = scene_card(64, "");
    s.host.computer = made_up_computer(m);
    CU_ASSERT_EQUAL(
        scene_write(&s, m, (struct mosaicum_write){.what = path_in(s.folder, "edited")}, "/dev/sdb")
            .status,
        MOSAICUM_DONE);
    struct result got = scene_write(
        &s, m, (struct mosaicum_write){.what = path_in(s.folder, "out/curlew/card.img")},
        "/dev/sdb");
    CU_ASSERT_EQUAL(got.status, MOSAICUM_DONE);
    CU_ASSERT_PTR_NOT_NULL(strstr(got.rules, "write.edits-lost"));
    made_up_free(m);
    scene_end(&s);
}

/* Places that a system writes by itself, and those beside them that nobody but a person writes. */
static void running_writes_only_its_own(void) {
    static const char *const own[] = {"var/log/messages",
                                      "var/log",
                                      "var/log/a/b.gz",
                                      "tmp/x",
                                      "etc/machine-id",
                                      "etc/adjtime",
                                      "lost+found/#12",
                                      "root/.bash_history",
                                      "home/a/.ash_history",
                                      "FSCK0001.REC",
                                      "etc/ssh/ssh_host_ed25519_key",
                                      "etc/gate/gate_rsa_host_key"};
    static const char *const edited[] = {"",
                                         "etc",
                                         "etc/passwd",
                                         "var",
                                         "var/lib/gauge/db",
                                         "var/logs/x",
                                         "etc/machine-id.bak",
                                         "root/.profile",
                                         "etc/ssh/sshd_config",
                                         "boot/tmp/x",
                                         "log/var/log",
                                         "FSCK.REC",
                                         "home/a/.profile",
                                         "usr/bin/run",
                                         "runner"};
    for (size_t i = 0; i < sizeof own / sizeof *own; i++)
        CU_ASSERT_PTR_NOT_NULL(mos_made_by_running(own[i]));
    for (size_t i = 0; i < sizeof edited / sizeof *edited; i++)
        CU_ASSERT_PTR_NULL(mos_made_by_running(edited[i]));
}

SUITE(carried_suite, {"edits are told apart", edits_are_told_apart},
      {"the advice brings the edits", the_advice_brings_the_edits},
      {"a destroyed volume is told", a_destroyed_volume_is_told},
      {"edits are seen among many", edits_are_seen_among_many},
      {"running writes only its own", running_writes_only_its_own});
