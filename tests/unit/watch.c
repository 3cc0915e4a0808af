/* Watching a board start: every symptom by its two logs, however they are cut into pieces; and what
 * hangs on time, by a clock of the test's own. */
#define _GNU_SOURCE
#include "support.h"

#include "watch/watch.h"

#include <stdlib.h>
#include <string.h>

#define SECOND INT64_C(1000000000)

static const struct mos_landmark landmarks[] = {
    {"first-stage", "", MOS_AT_FIRST, "^U-Boot SPL {20...)}", NULL, 0, 5 * SECOND, true, true,
     false},
    {"loader", "", MOS_AT_LOADER, "^U-Boot {20...)}", "2023.01 (Aug 09 2023 - 12:00:00 +0000)",
     MOS_SYMPTOM_OTHER_LOADER, 5 * SECOND, true, false, false},
    {"script-1", "", MOS_AT_LOADER, "^Entry main$", NULL, 0, 5 * SECOND, false, false, false},
    {"hand-over", "", MOS_AT_HAND_OVER, "^Starting kernel ...", NULL, 0, 9 * SECOND, false, false,
     false},
    {"kernel", "", MOS_AT_KERNEL, "^Linux version {} (", "6.1.0-50-arm64", MOS_SYMPTOM_OTHER_KERNEL,
     5 * SECOND, true, false, false},
    {"board", "", MOS_AT_KERNEL, "Machine model: {}", "Saltmarsh Curlew", MOS_SYMPTOM_NO_TREE_MODEL,
     5 * SECOND, false, true, false},
    {"arguments", "", MOS_AT_KERNEL, "^Kernel command line: {}",
     "console=ttyS0,115200 root=/dev/mmcblk0p2 rootwait ro", MOS_SYMPTOM_OTHER_ARGUMENTS,
     5 * SECOND, false, false, false},
    {"root", "", MOS_AT_ROOT, "VFS: Mounted root ({} filesystem)", NULL, 0, 9 * SECOND, false,
     false, false},
    {"first-program", "", MOS_AT_PROGRAM, "^Run {} as init process", NULL, 0, 5 * SECOND, false,
     true, false},
    {"log-in", "", MOS_AT_SYSTEM, " login:", NULL, 0, 20 * SECOND, false, false, true},
};
enum {
    LANDMARKS = sizeof landmarks / sizeof *landmarks,
    LOADER = 1,
    SCRIPT = 2,
    HAND = 3,
    KERNEL = 4
};

static const struct mos_watch_texts *texts; /* NULL: each watch makes its own */

static void begin(struct core *c, struct mos_watch *w, int64_t now) {
    struct mos_watch_settings s = {.arena = c->ctx.arena,
                                   .landmarks = landmarks,
                                   .count = LANDMARKS,
                                   .texts = texts,
                                   .prompt = "=> ",
                                   .network = true,
                                   .starts = 4};
    mos_watch_begin(w, &s, now);
}

static void say(struct mos_watch *w, const char *text, int64_t now) {
    mos_watch_take(w, (const uint8_t *)text, strlen(text), now);
}

/* ---- the logs ---- */

/* A log of ours: the bytes that came. */
static size_t plain_bytes(char *text, size_t length) {
    size_t n = 0;
    char *p = strchr(text, '\n');
    for (p = p ? p + 1 : text + length; *p;) {
        p += strspn(p, " 0123456789.");
        for (; *p && *p != '\n'; n++) {
            unsigned value;
            bool hex = sscanf(p, "\\x%2x", &value) == 1;
            text[n] = hex ? (char)value : *p;
            p += hex ? 4 : 1;
        }
        text[n++] = '\n';
        p += *p == '\n';
    }
    return n;
}

static char *read_log(const char *id, const char *which, size_t *length) {
    char *text =
        read_whole(path_in(MOSAICUM_SOURCE, "tests/symptoms/%s/%s.log", id, which), length);
    CU_ASSERT_PTR_NOT_NULL_FATAL(text);
    if (strncmp(text, "# mosaicum log", 14) == 0)
        *length = plain_bytes(text, *length);
    return text;
}

/* What it comes to, given in pieces of at most `piece` bytes. */
static struct mos_watch_verdict judge(struct mos_watch *w, struct core *c, const char *text,
                                      size_t length, uint64_t *seed, size_t piece,
                                      enum mos_watch_close why) {
    begin(c, w, 0);
    for (size_t at = 0; at < length;) {
        size_t n = 1 + (size_t)random_below(seed, piece);
        n = n < length - at ? n : length - at;
        mos_watch_take(w, (const uint8_t *)text + at, n, 1);
        at += n;
    }
    return *mos_watch_close(w, why, 1);
}

static bool has_hit(const struct mos_watch *w, enum mos_symptom_id id) {
    for (size_t i = 0; i < w->hits.count; i++)
        if (((const struct mos_watch_hit *)mos_vec_pointer(&w->hits, i))->id == id)
            return true;
    return false;
}

static void each_symptom_has_its_logs(void) {
    uint64_t seed = 7;
    struct core all;
    core_start(&all);
    texts = mos_watch_texts(all.ctx.arena, landmarks, LANDMARKS);
    for (unsigned id = 0; id < MOS_SYMPTOM_COUNT; id++) {
        const struct mos_symptom_row *row = &mos_symptom_rows[id];
        enum mos_watch_close why = id == MOS_SYMPTOM_LINE_GONE ? MOS_WATCH_GONE : MOS_WATCH_ENOUGH;
        static const size_t pieces[] = {1 << 16, 1, 7, 300};
        size_t fails_length, passes_length;
        char *fails = read_log(row->id, "fails", &fails_length);
        char *passes = read_log(row->id, "passes", &passes_length);
        for (size_t i = 0; i < sizeof pieces / sizeof *pieces; i++) {
            struct core c;
            struct mos_watch w;
            core_start(&c);
            struct mos_watch_verdict v = judge(&w, &c, fails, fails_length, &seed, pieces[i], why);
            bool told = row->kind == MOS_SYMPTOM_IS_SIGN ? has_hit(&w, id) && v.symptom != id
                                                         : v.has_symptom && v.symptom == id;
            if (!told)
                fprintf(stderr, "\n%s: fails.log in pieces of %zu: %s at %s\n", row->id, pieces[i],
                        v.has_symptom ? mos_symptom_rows[v.symptom].id : "nothing",
                        mos_boot_stage_name(v.stage));
            CU_ASSERT_TRUE(told);
            v = judge(&w, &c, passes, passes_length, &seed, pieces[i], MOS_WATCH_ENOUGH);
            if (v.end != MOS_WATCH_WELL || v.has_symptom || has_hit(&w, id))
                fprintf(stderr, "\n%s: passes.log in pieces of %zu: %s at %s\n", row->id, pieces[i],
                        v.has_symptom ? mos_symptom_rows[v.symptom].id : "well",
                        mos_boot_stage_name(v.stage));
            CU_ASSERT_EQUAL(v.end, MOS_WATCH_WELL);
            CU_ASSERT_FALSE(v.has_symptom || has_hit(&w, id));
            core_end(&c);
        }
        free(fails);
        free(passes);
    }
    texts = NULL;
    core_end(&all);
}

/* Every text of the table finds what it was written for: itself, with something for each {}. */
static void each_text_finds_itself(void) {
    struct core c;
    core_start(&c);
    struct mos_matcher *m = mos_matcher_new(c.ctx.arena);
    struct mos_symptom_texts own;
    mos_symptoms_add(m, &own);
    mos_matcher_make(m);
    size_t n = 0;
    for (unsigned id = 0; id < MOS_SYMPTOM_COUNT; id++)
        for (const char *p = mos_symptom_rows[id].texts; *p; n++) {
            size_t length = strcspn(p, "\n");
            struct mos_buf line = {.arena = c.ctx.arena};
            for (size_t i = p[0] == '^'; i < length; i++)
                if (p[i] == '{') {
                    mos_buf_text(&line, "some-thing");
                    i++;
                } else if (p[i] != '$' || i + 1 < length) {
                    mos_buf_char(&line, p[i]);
                }
            struct mos_match match;
            bool fits =
                mos_matcher_fits(m, own.first + n, mos_buf_string(&line), line.length, 0, &match);
            CU_ASSERT_TRUE(fits);
            CU_ASSERT_EQUAL(own.owner[n], id);
            p += length + (p[length] == '\n');
        }
    CU_ASSERT_EQUAL(n, own.count);
    core_end(&c);
}

/* ---- the matcher ---- */

static void mark(void *self, const struct mos_match *match) {
    ((bool *)self)[match->number] = true;
}

/* Against looking for each text by itself, over an alphabet so small that they overlap. */
static void the_matcher_finds_all(void) {
    uint64_t seed = 11;
    for (unsigned round = 0; round < 300; round++) {
        struct core c;
        core_start(&c);
        struct mos_matcher *m = mos_matcher_new(c.ctx.arena);
        char wanted[20][12], line[60];
        bool found[20] = {false};
        for (size_t i = 0; i < 20; i++) {
            size_t n = 2 + (size_t)random_below(&seed, 8);
            for (size_t k = 0; k < n; k++)
                wanted[i][k] = "abc"[random_below(&seed, 3)];
            wanted[i][n] = 0;
            CU_ASSERT_EQUAL(mos_matcher_add(m, wanted[i], n), i);
        }
        mos_matcher_make(m);
        for (size_t k = 0; k < sizeof line - 1; k++)
            line[k] = "abc"[random_below(&seed, 3)];
        line[sizeof line - 1] = 0;
        mos_matcher_line(m, line, strlen(line), 0, mark, found);
        for (size_t i = 0; i < 20; i++)
            CU_ASSERT_EQUAL(found[i], strstr(line, wanted[i]) != NULL);
        core_end(&c);
    }
}

static void texts_with_holes(void) {
    static const struct {
        const char *text, *line; /* line NULL: the text is refused */
        const char *values;      /* joined by |; NULL: it does not fit */
    } rows[] = {
        {"{}: no such", "a b: no such", "a b"},
        {"no {} of {}", "there is no end of it", "end|it"},
        {"^ab", "xab", NULL},
        {"^ab", "abx", ""},
        {"ab$", "abx", NULL},
        {"ab$", "abxab", ""},
        {"v {20...)} end", "v 2023 (x) end", "2023 (x)"},
        {"^v {20...)}", "v SPL 2023 (x)", NULL},
        {"error {}", "error ", ""},
        {"aa{}b{}c", "aa--b==c", "--|=="},
        {"a{}b", NULL, NULL},
        {"{}", NULL, NULL},
        {"{}x{}", NULL, NULL},
        {"aa{}bb{}cc{}dd{}", NULL, NULL},
        {"if {x} then", "if {x} then", ""},
    };
    for (size_t i = 0; i < sizeof rows / sizeof *rows; i++) {
        struct core c;
        core_start(&c);
        struct mos_matcher *m = mos_matcher_new(c.ctx.arena);
        size_t number = mos_matcher_add(m, rows[i].text, strlen(rows[i].text));
        CU_ASSERT_EQUAL(number == SIZE_MAX, !rows[i].line);
        struct mos_match match;
        if (rows[i].line && number != SIZE_MAX) {
            bool fits = mos_matcher_fits(m, number, rows[i].line, strlen(rows[i].line), 0, &match);
            CU_ASSERT_EQUAL(fits, rows[i].values != NULL);
            struct mos_buf values = {.arena = c.ctx.arena};
            for (size_t k = 0; fits && k < match.count; k++)
                mos_buf_printf(&values, "%s%.*s", k ? "|" : "", (int)match.lengths[k],
                               match.values[k]);
            if (fits && rows[i].values)
                CU_ASSERT_STRING_EQUAL(mos_buf_string(&values), rows[i].values);
        }
        core_end(&c);
    }
}

/* ---- lines ---- */

static void join(void *self, const struct mos_line *line) {
    mos_buf_printf(self, "%s%s", line->text, line->whole ? "\n" : "");
}

static void lines_are_text(void) {
    static const struct {
        const char *bytes, *lines;
        unsigned odd;
    } rows[] = {
        {"a\r\nb\n", "a\nb\n", 0},
        {"\033[1;31mred\033[0m\n", "red\n", 0},
        {"\033]0;title\007shown\n", "shown\n", 0},
        {"\0337\033[r\033[999;999H\033[6n\0338No system\n", "No system\n", 0},
        {"autoboot:  2 \b\b\b 1 \b\b\b 0 \n", "autoboot:  0 \n", 0},
        {"10%\r20%\r30%\n", "10%\n20%\n30%\n", 0},
        {"\xc3\xa4\xe2\x82\xac\n", "\xc3\xa4\xe2\x82\xac\n", 0},
        {"\xff\xfe\x80x\n", "???x\n", 3},
        {"\033[31", "", 0},
        {"\033[broken\nnext\n", "roken\nnext\n", 0},
    };
    for (size_t i = 0; i < sizeof rows / sizeof *rows; i++)
        for (size_t piece = 1; piece < 4; piece++) {
            struct core c;
            core_start(&c);
            struct mos_lines lines = {0};
            struct mos_buf out = {.arena = c.ctx.arena};
            size_t length = strlen(rows[i].bytes);
            for (size_t at = 0; at < length; at += piece)
                mos_lines_take(&lines, (const uint8_t *)rows[i].bytes + at,
                               piece < length - at ? piece : length - at, 0, join, &out);
            CU_ASSERT_STRING_EQUAL(mos_buf_string(&out), rows[i].lines);
            CU_ASSERT_EQUAL(lines.odd, rows[i].odd);
            core_end(&c);
        }
    double seconds;
    CU_ASSERT_STRING_EQUAL(mos_line_message("[    1.500000] mmc0: new", &seconds), "mmc0: new");
    CU_ASSERT_DOUBLE_EQUAL(seconds, 1.5, 1e-9);
    CU_ASSERT_STRING_EQUAL(mos_line_message("<6>[    0.000000][    T0] Linux", NULL), "Linux");
    CU_ASSERT_STRING_EQUAL(mos_line_message("[ OK ] Started", &seconds), "[ OK ] Started");
    CU_ASSERT_DOUBLE_EQUAL(seconds, -1, 1e-9);
}

/* ---- time ---- */

static const char loader[] = "U-Boot 2023.01 (Aug 09 2023 - 12:00:00 +0000)\n";
static const char kernel[] = "[    0.000000] Linux version 6.1.0-50-arm64 (a@b) #1\n";

static void a_landmark_has_its_time(void) {
    struct core c;
    struct mos_watch w;
    core_start(&c);
    begin(&c, &w, 10 * SECOND);
    /* nothing comes: the first landmark that must come decides, not the one that may */
    CU_ASSERT_EQUAL(mos_watch_due(&w, 10 * SECOND), 15 * SECOND);
    CU_ASSERT_EQUAL(mos_watch_look(&w, 15 * SECOND - 1), MOS_WATCH_GOES_ON);
    CU_ASSERT_EQUAL(mos_watch_look(&w, 15 * SECOND), MOS_WATCH_STOPPED);
    /* power comes later: time counts from the first byte */
    say(&w, "\n", 100 * SECOND);
    CU_ASSERT_EQUAL(mos_watch_look(&w, 104 * SECOND), MOS_WATCH_GOES_ON);
    say(&w, loader, 104 * SECOND);
    CU_ASSERT_TRUE(w.marks[LOADER].reached && !w.marks[LOADER].differs);
    CU_ASSERT_EQUAL(mos_watch_due(&w, 104 * SECOND), 109 * SECOND);
    say(&w, "Entry main\n", 108 * SECOND);
    CU_ASSERT_EQUAL(mos_watch_due(&w, 108 * SECOND), 117 * SECOND);
    /* text without a landmark does not give it more time */
    say(&w, "reading …\n", 116 * SECOND);
    CU_ASSERT_EQUAL(mos_watch_look(&w, 117 * SECOND), MOS_WATCH_STOPPED);
    const struct mos_watch_verdict *v = mos_watch_close(&w, MOS_WATCH_TIME, 117 * SECOND);
    CU_ASSERT_EQUAL(v->symptom, MOS_SYMPTOM_LOADER_SILENT);
    CU_ASSERT_EQUAL(v->stage, MOS_AT_LOADER);
    CU_ASSERT_STRING_EQUAL(v->last, "reading …");
    core_end(&c);
}

static void what_ends_it_need_not_be_waited_for(void) {
    static const struct {
        const char *says;
        int seconds; /* until it is given up */
        enum mos_symptom_id symptom;
    } rows[] = {
        {"** File not found kernel **\n=> ", 3, MOS_SYMPTOM_NO_FILE},
        {"=> ", 3, MOS_SYMPTOM_PROMPT},
        {"### ERROR ### Please RESET the board ###\n", 3, MOS_SYMPTOM_PLEASE_RESET},
        /* it will start again: that is waited for */
        {"resetting ...\n", 5, MOS_SYMPTOM_RESTARTS},
        {"=> boot\n", 5, MOS_SYMPTOM_LOADER_SILENT},
    };
    for (size_t i = 0; i < sizeof rows / sizeof *rows; i++) {
        struct core c;
        struct mos_watch w;
        core_start(&c);
        begin(&c, &w, 0);
        say(&w, loader, SECOND);
        say(&w, rows[i].says, SECOND);
        int64_t due = (1 + rows[i].seconds) * SECOND;
        CU_ASSERT_EQUAL(mos_watch_due(&w, SECOND), due);
        CU_ASSERT_EQUAL(mos_watch_look(&w, due - 1), MOS_WATCH_GOES_ON);
        CU_ASSERT_EQUAL(mos_watch_look(&w, due), MOS_WATCH_STOPPED);
        CU_ASSERT_EQUAL(mos_watch_close(&w, MOS_WATCH_TIME, due)->symptom, rows[i].symptom);
        core_end(&c);
    }
}

/* Two failed starts and a good one; then one that never ends. */
static void starts_are_counted(void) {
    struct core c;
    struct mos_watch w;
    core_start(&c);
    begin(&c, &w, 0);
    for (int n = 0; n < 3; n++) {
        say(&w, loader, (1 + n * 4) * SECOND);
        say(&w, n < 2 ? "Entry main\nBad Data CRC\nresetting ...\n" : "Entry main\n",
            (2 + n * 4) * SECOND);
    }
    CU_ASSERT_EQUAL(mos_watch_look(&w, 11 * SECOND), MOS_WATCH_GOES_ON);
    say(&w, "Starting kernel ...\n", 11 * SECOND);
    say(&w, kernel, 12 * SECOND);
    say(&w,
        "[ 0.0] Kernel command line: console=ttyS0,115200 root=/dev/mmcblk0p2 rootwait ro\n"
        "VFS: Mounted root (ext4 filesystem)\ncurlew login: ",
        13 * SECOND);
    CU_ASSERT_EQUAL(mos_watch_look(&w, 13 * SECOND), MOS_WATCH_WELL);
    const struct mos_watch_verdict *v = mos_watch_close(&w, MOS_WATCH_ENOUGH, 13 * SECOND);
    CU_ASSERT_EQUAL(v->end, MOS_WATCH_WELL);
    CU_ASSERT_EQUAL(v->starts, 3);
    CU_ASSERT_EQUAL(v->period, 4 * SECOND);
    CU_ASSERT_EQUAL(((struct mos_watch_start *)mos_vec_at(&w.starts, 0))->why->id,
                    MOS_SYMPTOM_BAD_SUM);

    begin(&c, &w, 0);
    for (int n = 0; n < 5; n++) {
        CU_ASSERT_EQUAL(mos_watch_look(&w, n * 4 * SECOND), MOS_WATCH_GOES_ON);
        say(&w, loader, (1 + n * 4) * SECOND);
    }
    CU_ASSERT_EQUAL(mos_watch_look(&w, 18 * SECOND), MOS_WATCH_STOPPED);
    v = mos_watch_close(&w, MOS_WATCH_TIME, 18 * SECOND);
    CU_ASSERT_EQUAL(v->symptom, MOS_SYMPTOM_RESET_LOOP);
    CU_ASSERT_EQUAL(v->starts, 5);
    core_end(&c);
}

/* A console that starts late repeats what the early one said: that is no second start. */
static void an_early_console_is_no_restart(void) {
    struct core c;
    struct mos_watch w;
    core_start(&c);
    begin(&c, &w, 0);
    say(&w, loader, 0);
    say(&w, "Starting kernel ...\n", SECOND);
    say(&w, kernel, SECOND);
    say(&w, kernel, 2 * SECOND);
    CU_ASSERT_EQUAL(w.starts.count, 0);
    say(&w,
        "[ 1.0] Kernel panic - not syncing: VFS: Unable to mount root fs on unknown-block(0,0)\n",
        3 * SECOND);
    say(&w, kernel, 8 * SECOND);
    CU_ASSERT_EQUAL(w.starts.count, 1);
    core_end(&c);
}

/* What the loader also says when all is well is no reason; nor the network where it does not boot
 * from it; nor what it said before it came farther. */
static void what_is_usual_is_no_reason(void) {
    static const char said[] =
        "Net:   No ethernet found.\nCard did not respond to voltage select! : -110\n=> ";
    struct core c;
    struct mos_watch w;
    core_start(&c);
    struct mos_watch_settings s = {
        .arena = c.ctx.arena, .landmarks = landmarks, .count = LANDMARKS, .prompt = "=> "};
    mos_watch_begin(&w, &s, 0);
    say(&w, loader, 0);
    say(&w, said, 0);
    CU_ASSERT_EQUAL(mos_watch_close(&w, MOS_WATCH_ENOUGH, 0)->symptom, MOS_SYMPTOM_NO_MEDIUM);
    s.usual = "one\nCard did not respond to voltage select! : -110\nother\n";
    mos_watch_begin(&w, &s, 0);
    say(&w, loader, 0);
    say(&w, said, 0);
    CU_ASSERT_EQUAL(mos_watch_close(&w, MOS_WATCH_ENOUGH, 0)->symptom, MOS_SYMPTOM_PROMPT);
    /* behind a silent hand-over only a cause, and only since the landmark before it */
    static const struct {
        const char *says;
        enum mos_symptom_id symptom;
    } rows[] = {
        {"BootOrder not defined\nBad Data CRC\nEntry main\n", MOS_SYMPTOM_SILENT_HAND_OVER},
        {"Entry main\nBootOrder not defined\n", MOS_SYMPTOM_SILENT_HAND_OVER},
        {"Entry main\n** File not found main.dtb **\n", MOS_SYMPTOM_NO_FILE},
    };
    for (size_t i = 0; i < sizeof rows / sizeof *rows; i++) {
        begin(&c, &w, 0);
        say(&w, loader, 0);
        say(&w, rows[i].says, 0);
        say(&w, "Starting kernel ...\n\n", 0);
        CU_ASSERT_EQUAL(mos_watch_close(&w, MOS_WATCH_TIME, 0)->symptom, rows[i].symptom);
    }
    begin(&c, &w, 0);
    say(&w, loader, 0);
    say(&w, "** File not found boot.cfg **\nEntry main\nBad Data CRC\n=> ", 0);
    CU_ASSERT_EQUAL(mos_watch_close(&w, MOS_WATCH_ENOUGH, 0)->symptom, MOS_SYMPTOM_BAD_SUM);
    core_end(&c);
}

SUITE(watch_suite, {"each symptom has its logs", each_symptom_has_its_logs},
      {"each text finds itself", each_text_finds_itself},
      {"the matcher finds all", the_matcher_finds_all}, {"texts with holes", texts_with_holes},
      {"lines are text", lines_are_text}, {"a landmark has its time", a_landmark_has_its_time},
      {"what ends it need not be waited for", what_ends_it_need_not_be_waited_for},
      {"starts are counted", starts_are_counted},
      {"an early console is no restart", an_early_console_is_no_restart},
      {"what is usual is no reason", what_is_usual_is_no_reason});
