/* Commands that touch neither storage nor memory: echo, test, setexpr and their kin. */
#include "loaders/u-boot/inside.h"

#include <ctype.h>
#include <regex.h>
#include <stdlib.h>
#include <string.h>

static int run_echo(struct sim *s, int argc, const char *const *argv) {
    struct mos_buf line = {.arena = s->arena};
    bool newline = true;
    int i = 1;
    if (argc > 1 && strcmp(argv[1], "-n") == 0) {
        newline = false;
        i++;
    }
    int first = i;
    for (; i < argc; i++)
        mos_buf_printf(&line, "%s%s", i > first ? " " : "", argv[i]);
    sim_print(s, "%s%s", mos_buf_string(&line), newline ? "\n" : "");
    if (line.length)
        sim_event(s, MOS_EVENT_SAY, 0, 0, NULL, "%s", mos_buf_string(&line));
    /* how the scripts that we write say what they try (script.c), as one word or two */
    const char *said = mos_buf_string(&line);
    if (strncmp(said, "Entry ", 6) == 0 && said[6] && !strchr(said + 6, ' '))
        sim_try(s, said + 6);
    return 0;
}

static int run_true(struct sim *s, int argc, const char *const *argv) {
    (void)s, (void)argc, (void)argv;
    return 0;
}

static int run_false(struct sim *s, int argc, const char *const *argv) {
    (void)s, (void)argc, (void)argv;
    return 1;
}

/* As measured on version 2023.01: it does not end a script, only its code matters. */
static int leave_script(struct sim *s, int argc, const char *const *argv) {
    sim_event(s, MOS_EVENT_TROUBLE, 0, 0, NULL,
              "exit does not end a script in this version of the loader: the next line runs");
    return argc > 1 && strtoul(argv[1], NULL, 10) ? 1 : 0;
}

/* ---- test ---- */

enum operation { NONE, STRING, NUMBER, FILE_THERE, EMPTY, FILLED };

static bool compare(const char *sign, const char *a, const char *b, bool *out) {
    static const struct {
        const char *sign;
        bool number, less, equal, more;
    } signs[] = {{"=", false, false, true, false}, {"==", false, false, true, false},
                 {"!=", false, true, false, true}, {"<", false, true, false, false},
                 {">", false, false, false, true}, {"-eq", true, false, true, false},
                 {"-ne", true, true, false, true}, {"-lt", true, true, false, false},
                 {"-le", true, true, true, false}, {"-gt", true, false, false, true},
                 {"-ge", true, false, true, true}};
    for (size_t i = 0; i < sizeof signs / sizeof *signs; i++) {
        if (strcmp(signs[i].sign, sign) != 0)
            continue;
        int64_t x = (int64_t)sim_number(a, NULL, 0), y = (int64_t)sim_number(b, NULL, 0);
        int order = signs[i].number ? (x > y) - (x < y) : strcmp(a, b);
        *out = order < 0 ? signs[i].less : order > 0 ? signs[i].more : signs[i].equal;
        return true;
    }
    return false;
}

static bool file_there(struct sim *s, const char *kind, const char *place, const char *path) {
    char number[16];
    size_t n = strcspn(place, ":");
    if (n >= sizeof number)
        return false;
    memcpy(number, place, n);
    number[n] = 0;
    struct sim_disk *d = sim_disk(s, kind, number);
    if (!d) {
        sim_print(s, "** Bad device specification %s %s **\nCouldn't find partition %s %s\n", kind,
                  number, kind, place);
        return false;
    }
    unsigned partition = place[n] ? (unsigned)sim_number(place + n + 1, NULL, 16) : 0;
    struct sim_volume *v = sim_volume(s, d, partition);
    if (!v->is_there) {
        sim_print(s, "** Invalid partition %u **\nCouldn't find partition %s %s\n", partition, kind,
                  place);
        return false;
    }
    const struct mos_fs_loader *reads = sim_loader_reads(s, v);
    const struct sim_file *f = reads ? sim_file(s, v, path) : NULL;
    bool folder = f && f->type == MOS_ENTRY_FOLDER && reads->folders_exist;
    return folder || (f && f->type == MOS_ENTRY_FILE);
}

/* One primary of an expression; advances *at. */
static bool primary(struct sim *s, int argc, const char *const *argv, int *at, bool *wrong) {
    bool value = false;
    int left = argc - *at;
    if (left >= 4 && strcmp(argv[*at], "-e") == 0) {
        value = file_there(s, argv[*at + 1], argv[*at + 2], argv[*at + 3]);
        *at += 4;
    } else if (left >= 2 && (strcmp(argv[*at], "-z") == 0 || strcmp(argv[*at], "-n") == 0)) {
        value = !*argv[*at + 1] == (argv[*at][1] == 'z');
        *at += 2;
    } else if (left >= 3 && compare(argv[*at + 1], argv[*at], argv[*at + 2], &value)) {
        *at += 3;
    } else {
        *wrong = true;
    }
    return value;
}

/* From left to right: -a and -o join what was found so far with what follows. */
static int run_test(struct sim *s, int argc, const char *const *argv) {
    bool so_far = false, negate = false, wrong = false;
    char join = 0;
    int at = 1, end = argc;
    if (strcmp(argv[0], "[") == 0) {
        if (strcmp(argv[argc - 1], "]") != 0) {
            sim_print(s, "[: missing terminating ]\n");
            return 1;
        }
        end--;
    }
    if (end < 3)
        return 1;
    while (at < end && !wrong) {
        if (strcmp(argv[at], "!") == 0) {
            negate = !negate;
            at++;
            continue;
        }
        if (strcmp(argv[at], "-a") == 0 || strcmp(argv[at], "-o") == 0) {
            join = argv[at++][1];
            continue;
        }
        bool value = primary(s, end, argv, &at, &wrong);
        if (wrong)
            break;
        value ^= negate;
        negate = false;
        so_far = join == 'a' ? so_far && value : join == 'o' ? so_far || value : value;
    }
    return !wrong && !so_far; /* what it does not understand is true for the loader */
}

/* ---- setexpr, itest ---- */

/* A number, or what lies at an address when it begins with a star. */
static uint64_t operand(struct sim *s, const char *text, size_t width) {
    if (*text != '*')
        return sim_number(text, NULL, 16);
    uint8_t bytes[8] = {0};
    uint64_t value = 0;
    sim_ram_read(s, sim_number(text + 1, NULL, 16), bytes, width);
    for (size_t i = width; i; i--)
        value = value << 8 | bytes[i - 1];
    return value;
}

/* The width that a command's ending asks for: .b, .w, .l; `usual` without one; 0: wrong. */
static size_t width_of(const char *name, size_t usual) {
    const char *dot = strrchr(name, '.');
    if (!dot)
        return usual;
    return dot[1] == 'b' ? 1 : dot[1] == 'w' ? 2 : dot[1] == 'l' ? 4 : dot[1] == 'q' ? 8 : 0;
}

static bool calculate(char sign, uint64_t a, uint64_t b, uint64_t *out) {
    switch (sign) {
    case '|':
        *out = a | b;
        return true;
    case '&':
        *out = a & b;
        return true;
    case '^':
        *out = a ^ b;
        return true;
    case '+':
        *out = a + b;
        return true;
    case '-':
        *out = a - b;
        return true;
    case '*':
        *out = a * b;
        return true;
    case '/':
        *out = b ? a / b : 0;
        return true;
    case '%':
        *out = b ? a % b : 0;
        return true;
    default:
        return false;
    }
}

/* Puts \0 … \9 of a match into a replacement. */
static void add_replacement(struct mos_buf *b, const char *by, const char *text,
                            const regmatch_t *match) {
    for (; *by; by++) {
        if (*by != '\\' || !isdigit((unsigned char)by[1])) {
            if (*by == '\\' && by[1])
                by++;
            mos_buf_char(b, *by);
            continue;
        }
        const regmatch_t *m = &match[*++by - '0'];
        if (m->rm_so >= 0)
            mos_buf_add(b, text + m->rm_so, (size_t)(m->rm_eo - m->rm_so));
    }
}

static int substitute(struct sim *s, const char *name, bool all, const char *pattern,
                      const char *by, const char *text) {
    regex_t regex;
    regmatch_t match[10];
    struct mos_buf b = {.arena = s->arena};
    bool any = false;
    if (strpbrk(pattern, "*+?{|"))
        sim_unknown(s, "what the loader makes of the pattern %s: its own engine repeats less",
                    pattern);
    if (!text)
        return sim_trouble(s, "## Error: variable \"%s\" not defined", name);
    if (strlen(pattern) > 256 || strlen(text) > 4096 || regcomp(&regex, pattern, REG_EXTENDED))
        return sim_trouble(s, "Error compiling regex \"%s\"", pattern);
    const char *p = text;
    while (*p && regexec(&regex, p, 10, match, any ? REG_NOTBOL : 0) == 0) {
        any = true;
        mos_buf_add(&b, p, (size_t)match[0].rm_so);
        add_replacement(&b, by, p, match);
        if (match[0].rm_eo == match[0].rm_so && p[match[0].rm_eo])
            mos_buf_char(&b, p[match[0].rm_eo++]);
        p += match[0].rm_eo;
        if (!all)
            break;
    }
    regfree(&regex);
    if (!any) {
        sim_print(s, "%s: No match\n", text);
        return 1;
    }
    mos_buf_text(&b, p);
    sim_set(s, name, mos_buf_string(&b));
    sim_print(s, "%s=%s\n", name, mos_buf_string(&b));
    return 0;
}

static int run_setexpr(struct sim *s, int argc, const char *const *argv) {
    size_t width = width_of(argv[0], 8);
    uint64_t value;
    if (!width || argc < 3 || argc == 4)
        return -1;
    if (argc >= 5 && (strcmp(argv[2], "gsub") == 0 || strcmp(argv[2], "sub") == 0))
        return substitute(s, argv[1], argv[2][0] == 'g', argv[3], argv[4],
                          argc > 5 ? argv[5] : sim_get(s, argv[1]));
    if (argc > 5)
        return -1;
    value = operand(s, argv[2], width);
    if (argc == 5 &&
        (argv[3][1] || !calculate(argv[3][0], value, operand(s, argv[4], width), &value)))
        return -1;
    sim_set_number(s, argv[1], value);
    return 0;
}

/* -1, 0 or 1 for two operands of itest; .s compares them as texts. */
static int ordered(struct sim *s, const char *left, const char *right, size_t width) {
    if (!width) {
        int order = strcmp(left, right);
        return (order > 0) - (order < 0);
    }
    int64_t a = (int64_t)operand(s, left, width), b = (int64_t)operand(s, right, width);
    return (a > b) - (a < b);
}

static int run_itest(struct sim *s, int argc, const char *const *argv) {
    static const struct {
        const char *sign, *same;
    } signs[] = {{"-lt", "<"},  {"-gt", ">"},  {"-eq", "=="}, {"-ne", "!="},
                 {"-ge", ">="}, {"-le", "<="}, {"-ne", "<>"}};
    const char *dot = strrchr(argv[0], '.');
    bool texts = dot && dot[1] == 's';
    size_t width = texts ? 0 : width_of(argv[0], 4);
    if (argc != 4 || (!width && !texts))
        return -1;
    int order = ordered(s, argv[1], argv[3], width);
    for (size_t i = 0; i < sizeof signs / sizeof *signs; i++) {
        const char *sign = signs[i].sign;
        if (strcmp(argv[2], sign) != 0 && strcmp(argv[2], signs[i].same) != 0)
            continue;
        bool yes = sign[1] == 'l'   ? order < 0 || (sign[2] == 'e' && !order)
                   : sign[1] == 'g' ? order > 0 || (sign[2] == 'e' && !order)
                                    : !order == (sign[1] == 'e');
        return !yes;
    }
    return sim_trouble(s, "Unknown operator '%s'", argv[2]);
}

static int run_sleep(struct sim *s, int argc, const char *const *argv) {
    if (argc < 2)
        return -1;
    if (strtoul(argv[1], NULL, 10) > 3600)
        s->stop = SIM_HANGS;
    return 0;
}

static int run_reset(struct sim *s, int argc, const char *const *argv) {
    (void)argc, (void)argv;
    sim_print(s, "resetting ...\n");
    s->stop = SIM_RESET;
    return 0;
}

static int run_poweroff(struct sim *s, int argc, const char *const *argv) {
    (void)argc, (void)argv;
    sim_event(s, MOS_EVENT_TROUBLE, 0, 0, NULL, "the loader switches the board off");
    s->stop = SIM_OFF;
    return 0;
}

const struct ub_command ub_commands_plain[] = {
    {"echo", run_echo, 0},       {"true", run_true, 0},         {"false", run_false, 0},
    {"exit", leave_script, 2},   {"test", run_test, 0},         {"[", run_test, 0},
    {"setexpr", run_setexpr, 0}, {"itest", run_itest, 4},       {"sleep", run_sleep, 2},
    {"reset", run_reset, 0},     {"poweroff", run_poweroff, 1}, {NULL, NULL, 0},
};
