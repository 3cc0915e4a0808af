/* Device trees against the kernel's own: its sources against the blobs that are shipped, our
 * preprocessor against the system's, its overlay test data against its own table. */
#include "generated.h"
#include "peers.h"

#include "tree/cpp.h"
#include "tree/tree.h"

#include <ctype.h>
#include <glob.h>
#include <stdlib.h>
#include <string.h>

#define INCLUDES "-I include -I scripts/dtc/include-prefixes"
static const char *const folders[] = {"include", "scripts/dtc/include-prefixes"};

static const char *sources(void) {
    static char path[4096];
    snprintf(path, sizeof path, "%s/sources-of-trees", peers_cache());
    return path;
}

/* The names of a pattern in the cache, every n-th in the sample. */
static glob_t names_of(const char *pattern) {
    glob_t g;
    char whole[4200];
    snprintf(whole, sizeof whole, "%s/%s", peers_cache(), pattern);
    CU_ASSERT_EQUAL_FATAL(glob(whole, 0, NULL, &g), 0);
    return g;
}

static size_t step(void) {
    return peers_all() ? 1 : 12;
}

/* ---- the kernel's sources and blobs ---- */

/* Compiled, and where the makefile puts overlays on a base, with them: 1 byte for byte as shipped,
 * 2 equal but for the order of strings, 0 neither. */
static int compile_as(const char *w, const char *shipped) {
    struct outcome o = run_shell(
        "set -e; cd '%s'; m='%s'; f='%s'; w='%s'; n=$(basename $f .dtb); v=$(basename $(dirname "
        "$f)); d=arch/arm64/boot/dts/$v; rm -rf $w/t; mkdir -p $w/t; k=; "
        "grep -q __symbols__ $f && k=--keep-labels; "
        "c=$(sed -n \"s/^$n-dtbs[[:space:]]*:= *//p\" $d/Makefile); "
        "if [ -n \"$c\" ]; then set -- $c; "
        "$m tree compile $d/${1%%.dtb}.dts " INCLUDES " --keep-labels -q -o $w/t/base.dtb; "
        "$m tree compile $d/${2%%.dtbo}.dts " INCLUDES " -q -o $w/t/over.dtbo; "
        "$m tree apply $w/t/base.dtb $w/t/over.dtbo -q -o $w/t/made.dtb; "
        "else $m tree compile $d/$n.dts " INCLUDES " $k -q -o $w/t/made.dtb; fi 2>$w/t/said >&2; "
        "cmp -s $f $w/t/made.dtb && exit 0; $m tree compare -q $f $w/t/made.dtb >&2 && "
        "$m tree text $f -o $w/t/a.dts -q && $m tree text $w/t/made.dtb -o $w/t/b.dts -q && "
        "cmp $w/t/a.dts $w/t/b.dts && exit 10; cat $w/t/said; exit 1",
        sources(), MOSAICUM_PROGRAM, shipped, w);
    int status = o.status;
    if (status != 0 && status != 10)
        fprintf(stderr, "%s: %s%s\n", shipped, o.out, o.err);
    outcome_free(&o);
    return status == 0 ? 1 : status == 10 ? 2 : 0;
}

static void sources_compile_to_what_is_shipped(void) {
    const char *w = test_folder("shipped");
    glob_t g = names_of("full/usr/lib/linux-image-*/*/*.dtb");
    size_t same = 0, equal = 0, looked = 0;
    for (size_t i = 0; i < g.gl_pathc; i += step(), looked++) {
        int how = compile_as(w, g.gl_pathv[i]);
        CU_ASSERT_NOT_EQUAL(how, 0);
        same += how == 1;
        equal += how == 2;
    }
    CU_ASSERT_TRUE(looked > 40);
    proved("device trees from source", "%zu of %zu: %zu byte for byte as shipped, %zu equal",
           same + equal, looked, same, equal);
    globfree(&g);
}

/* ---- back and forth ---- */

static void blobs_come_back(void) {
    const char *w = test_folder("back");
    glob_t g = names_of("full/usr/lib/linux-image-*/*/*.dtb");
    size_t same = 0, looked = 0;
    for (size_t i = peers_all() ? 0 : 3; i < g.gl_pathc; i += step(), looked++) {
        struct outcome o = run_shell(
            "set -e; cd '%s'; m='%s'; f='%s'; rm -f a.* b.* c.*; $m tree text $f -o a.dts -q; $m "
            "tree compile a.dts -o a.dtb -q; $m tree text a.dtb -o b.dts -q; cmp a.dts b.dts; $m "
            "tree compile b.dts -o b.dtb -q; cmp a.dtb b.dtb; $m tree compare $f a.dtb -q; cmp -s "
            "$f a.dtb || echo other",
            w, MOSAICUM_PROGRAM, g.gl_pathv[i]);
        CU_ASSERT_EQUAL(o.status, 0);
        if (o.status)
            fprintf(stderr, "%s: %s%s\n", g.gl_pathv[i], o.out, o.err);
        same += !strstr(o.out, "other");
        outcome_free(&o);
    }
    proved("blobs to source and back", "%zu: all equal, %zu byte for byte as shipped", looked,
           same);
    globfree(&g);
}

static void other_architectures_compile(void) {
    static const char *const names[] = {"riscv", "powerpc", "mips"};
    const char *w = test_folder("others");
    for (size_t i = 0; i < 3; i++) {
        struct outcome o = run_shell(
            "cd '%s' && rm -rf '%s/o' && mkdir '%s/o' && n=0 && for f in $(find arch/%s/boot/dts "
            "-name '*.dts' | sort); do n=$((n+1)); b='%s/o/'$n; '%s' tree compile $f " INCLUDES
            " -q -o $b.dtb && '%s' tree text $b.dtb -q -o $b.dts && '%s' tree compile $b.dts -q -o "
            "$b.again && cmp $b.dtb $b.again || { echo $f; exit 1; }; done; echo $n trees",
            sources(), w, w, names[i], w, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM, MOSAICUM_PROGRAM);
        CU_ASSERT_EQUAL(o.status, 0);
        CU_ASSERT_PTR_NOT_NULL(strstr(o.out, " trees"));
        if (o.status)
            fprintf(stderr, "%s%s", o.out, o.err);
        o.out[strcspn(o.out, "\n")] = 0;
        proved(names[i], "%s compile, and come back the same", o.out);
        outcome_free(&o);
    }
}

/* ---- the preprocessor ---- */

/* A token of either side: its text, and where it stands. */
struct token {
    char text[120], file[200];
    unsigned line;
    bool through; /* a macro: theirs are all in the line where its use begins */
};

struct tokens {
    struct token *items;
    size_t count, room;
};

static void add_token(struct tokens *t, const char *text, size_t length, const char *file,
                      unsigned line) {
    if (t->count == t->room) {
        t->room = t->room ? 2 * t->room : 4096;
        t->items = realloc(t->items, t->room * sizeof *t->items);
    }
    struct token *n = &t->items[t->count++];
    snprintf(n->text, sizeof n->text, "%.*s", (int)length, text);
    snprintf(n->file, sizeof n->file, "%s", file);
    n->line = line;
    n->through = false;
}

static bool in_word(int c) {
    return isalnum(c) || c == '_';
}

/* Splits text as simply as can be: words, strings, and every other character by itself. */
static void split(struct tokens *t, const char *p, const char *end, const char *file,
                  unsigned line) {
    while (p < end) {
        const char *q = p + 1;
        if (isspace((unsigned char)*p)) {
            p++;
            continue;
        }
        if (in_word((unsigned char)*p))
            while (q < end && in_word((unsigned char)*q))
                q++;
        else if (*p == '"' || *p == '\'') {
            while (q < end && *q != *p)
                q += *q == '\\' && q + 1 < end ? 2 : 1;
            q = q < end ? q + 1 : end;
        }
        add_token(t, p, (size_t)(q - p), file, line);
        p = q;
    }
}

/* What the system's preprocessor makes of a file; false: it refuses it. */
static bool their_tokens(struct tokens *t, const char *folder, const char *file) {
    struct outcome o =
        run_shell("cd '%s' && cpp -nostdinc -undef -D__DTS__ -x assembler-with-cpp " INCLUDES
                  " '%s' 2>/dev/null",
                  folder, file);
    char name[200] = "";
    unsigned line = 0;
    bool good = o.status == 0;
    for (char *p = o.out, *end; good && *p; p = end + (*end == '\n'), line++) {
        end = p + strcspn(p, "\n");
        if (p[0] == '#' && p[1] == ' ' && isdigit((unsigned char)p[2])) {
            char *quote = strchr(p, '"');
            line = (unsigned)strtoul(p + 2, NULL, 10) - 1;
            if (quote && quote < end)
                snprintf(name, sizeof name, "%.*s", (int)strcspn(quote + 1, "\""), quote + 1);
            continue;
        }
        split(t, p, end, name, line);
    }
    outcome_free(&o);
    return good;
}

/* The line where the outermost macro was used that a token came through. */
static struct mos_place place_of(struct mos_cpp *c, const struct mos_cpp_seen *s) {
    struct mos_cpp_seen at = *s;
    while (at.use) {
        const struct mos_cpp_use *u = mos_vec_at(&c->uses, at.use - 1);
        at = (struct mos_cpp_seen){
            .file = u->file, .own = u->own, .own_length = u->own_length, .use = u->outer};
    }
    return mos_cpp_place(c, &at);
}

/* Lines joined by a backslash are one for the system's: the first of them. */
static unsigned first_line(const struct mos_source *source, unsigned line) {
    for (size_t length; line > 1; line--) {
        const char *text =
            mos_source_line(source, mos_source_line_start(source, line - 1), &length);
        if (!length || text[length - 1] != '\\')
            break;
    }
    return line;
}

static bool our_tokens(struct core *k, struct tokens *t, struct mos_cpp_store *store,
                       const char *file) {
    struct mos_cpp c = {.ctx = &k->ctx, .store = store, .arena = mos_arena_child(k->ctx.arena)};
    struct mos_cpp_file *f = mos_cpp_load(&c, file);
    c.base = f;
    mos_cpp_begin(&c);
    mos_cpp_push_file(&c, f, 0, NULL);
    for (struct mos_cpp_seen s; mos_cpp_next(&c, &s, false), s.t.kind;) {
        struct mos_place p = place_of(&c, &s);
        size_t before = t->count;
        split(t, s.t.text, s.t.text + s.t.length, p.source->shown_path,
              first_line(p.source, mos_source_position(p.source, p.offset).line));
        for (; before < t->count; before++)
            t->items[before].through = s.use;
    }
    mos_arena_free(c.arena);
    return !c.failed;
}

/* Equal texts, in the files and lines that the markers say. */
static bool same_tokens(const char *file, const struct tokens *a, const struct tokens *b) {
    unsigned loose =
        0; /* a line of theirs in which a macro's use begins: all up to its end is in it */
    for (size_t i = 0; i < a->count || i < b->count; i++) {
        const struct token *x = i < a->count ? &a->items[i] : NULL,
                           *y = i < b->count ? &b->items[i] : NULL;
        if (x && y && strcmp(x->text, y->text) == 0 && strcmp(x->file, y->file) == 0 &&
            (x->line == y->line ||
             ((x->through || y->line == loose) && x->line > y->line && x->line < y->line + 40))) {
            loose = x->through ? y->line : loose;
            continue;
        }
        fprintf(stderr, "%s: token %zu: %s (%s:%u), theirs %s (%s:%u)\n", file, i,
                x ? x->text : "none", x ? x->file : "", x ? x->line : 0, y ? y->text : "none",
                y ? y->file : "", y ? y->line : 0);
        return false;
    }
    return true;
}

static size_t compare_file(const char *folder, const char *file, size_t *refused) {
    struct core k;
    struct tokens ours = {0}, theirs = {0};
    core_start(&k);
    char full_folders[2][4200];
    const char *own[2];
    for (size_t i = 0; i < 2; i++) {
        snprintf(full_folders[i], sizeof full_folders[i], "%s", folders[i]);
        own[i] = full_folders[i];
    }
    struct mos_cpp_store *store = mos_dt_sources(k.ctx.arena, folder, own, 2);
    bool good = our_tokens(&k, &ours, store, file),
         their_good = their_tokens(&theirs, folder, file);
    CU_ASSERT_EQUAL(good, their_good);
    if (good != their_good)
        fprintf(stderr, "%s: refused by one of both\n", file);
    *refused += !good;
    if (good && their_good)
        CU_ASSERT_TRUE(same_tokens(file, &ours, &theirs));
    size_t count = ours.count;
    free(ours.items);
    free(theirs.items);
    core_end(&k);
    return count;
}

static void tokens_are_those_of_the_system(void) {
    char root[4096];
    glob_t g = names_of("sources-of-trees/arch/arm64/boot/dts/*/*.dts");
    size_t tokens = 0, looked = 0, refused = 0, all = g.gl_pathc;
    snprintf(root, sizeof root, "%s/", sources());
    for (size_t i = peers_all() ? 0 : 5; i < all; i += step() * (peers_all() ? 1 : 2), looked++)
        tokens += compare_file(sources(), g.gl_pathv[i] + strlen(root), &refused);
    CU_ASSERT_EQUAL(refused, 0);
    proved("tokens of the kernel's sources", "%zu in %zu files: text, file and line as cpp's",
           tokens, looked);
    globfree(&g);
}

/* ---- generated sources ---- */

static void put(FILE *f, uint64_t *seed, unsigned depth);

static void put_names(FILE *f, uint64_t *seed, unsigned count, unsigned depth) {
    for (unsigned i = 0; i < count; i++) {
        fputs(i ? ", " : "", f);
        put(f, seed, depth);
    }
}

/* A few tokens in which macros M0 to M11 come up. */
static void put(FILE *f, uint64_t *seed, unsigned depth) {
    static const char *const plain[] = {"a",  "b1",         "x",   "0x1e", "42", "+",
                                        "<",  "\"s\\\"t\"", "'c'", "-",    "@",  "M",
                                        "_y", ".5e-1",      ";",   "/",    "&"};
    unsigned n = 1 + (unsigned)random_below(seed, depth > 2 ? 2 : 5);
    for (unsigned i = 0; i < n; i++) {
        unsigned m = (unsigned)random_below(seed, 12);
        fputs(random_below(seed, 3) ? " " : "", f);
        if (random_below(seed, 2) || depth > 3) {
            fputs(plain[random_below(seed, sizeof plain / sizeof *plain)], f);
            fputc(' ', f);
        } else if (m < 6) {
            fprintf(f, "M%u ", m);
        } else if (random_below(seed, 8) == 0) {
            fprintf(f, "M%u ", m); /* without arguments it is no call */
        } else {
            fprintf(f, "M%u%s(", m, random_below(seed, 4) ? "" : " ");
            put_names(f, seed,
                      m == 11 ? 1 + (unsigned)random_below(seed, 4)
                      : m < 9 ? 1
                              : 2,
                      depth + 1);
            fputs(") ", f);
        }
    }
}

static void put_body(FILE *f, uint64_t *seed, unsigned m) {
    static const char *const tails[] = {"p ## q", "# p",      "p ## 1",  "x ## p",      "p p",
                                        "p ## _", "q ## p q", "# q # p", "p ## q ## p", "p"};
    if (m == 11) {
        fputs(random_below(seed, 2) ? "f(p, ## __VA_ARGS__) # __VA_ARGS__" : "[p __VA_ARGS__]", f);
    } else if (m >= 9 || (m >= 6 && random_below(seed, 2))) {
        const char *t = tails[random_below(seed, sizeof tails / sizeof *tails)];
        if (m < 9 && strchr(t, 'q'))
            t = "p ## 7 # p";
        fputs(t, f);
        fputc(' ', f);
    }
    if (m != 11 && random_below(seed, 2))
        put(f, seed, 2);
}

static void write_source(const char *path, uint64_t seed) {
    FILE *f = fopen(path, "w");
    CU_ASSERT_PTR_NOT_NULL_FATAL(f);
    for (unsigned round = 0; round < 3; round++) {
        for (unsigned m = 0; m < 12; m++) {
            if (random_below(&seed, 4) == 0)
                fprintf(f, "#undef M%u\n", m);
            fprintf(f, "#undef M%u\n#define M%u%s ", m, m,
                    m < 6    ? ""
                    : m < 9  ? "(p)"
                    : m < 11 ? "(p, q)"
                             : "(p, ...)");
            put_body(f, &seed, m);
            fputs(random_below(&seed, 5) ? "\n" : " /* far\n away */ x \\\n y\n", f);
        }
        for (unsigned line = 0; line < 6; line++) {
            unsigned a = (unsigned)random_below(&seed, 12), n = (unsigned)random_below(&seed, 9);
            switch (random_below(&seed, 5)) {
            case 0:
                fprintf(f, "#if defined(M%u) && %u > 3 || !defined N%u\nyes%u\n#elif %u %% 2\n", a,
                        n, a, a, n);
                put(f, &seed, 0);
                fputs("\n#else\nno\n#endif\n", f);
                break;
            case 1:
                fprintf(f, "#if %u - 4 < 0 ? -1 >> 1 == -1 : 0u - 1 > 5\n__LINE__ here\n#endif\n",
                        n);
                break;
            case 2:
                fputs("#address-cells = <1>; // gone\n0x1e+3 1.e-5 __FILE__ __COUNTER__ "
                      "__INCLUDE_LEVEL__\n",
                      f);
                break;
            default:
                put(f, &seed, 0);
                fputc('\n', f);
            }
        }
    }
    fclose(f);
}

static void generated_tokens_are_those_of_the_system(void) {
    const char *w = test_folder("generated-sources");
    size_t count = peers_all() ? 2000 : 120, tokens = 0, refused = 0;
    for (size_t i = 0; i < count; i++) {
        char path[4200];
        snprintf(path, sizeof path, "%s/g.dts", w);
        write_source(path, 1000 + i);
        unsigned before = CU_get_number_of_failures();
        tokens += compare_file(w, "g.dts", &refused);
        if (CU_get_number_of_failures() != before)
            fprintf(stderr, "seed %zu\n", 1000 + i);
    }
    CU_ASSERT_TRUE(refused < count / 2);
    proved("tokens of generated sources", "%zu in %zu files as cpp's; %zu refused by both", tokens,
           count, refused);
}

/* ---- overlays ---- */

/* The table of drivers/of/unittest.c; 16 and 17 fail there only by an injected notifier. */
static const struct {
    const char *name, *base;
    bool good;
} overlays[] = {
    {"overlay", "static_base_2", true},
    {"overlay_0", "static_base_1", true},
    {"overlay_1", "static_base_1", true},
    {"overlay_2", "static_base_1", true},
    {"overlay_3", "static_base_1", true},
    {"overlay_4", "static_base_1", true},
    {"overlay_5", "static_base_1", true},
    {"overlay_6", "static_base_1", true},
    {"overlay_7", "static_base_1", true},
    {"overlay_8", "static_base_1", true},
    {"overlay_9", "static_base_1", true},
    {"overlay_10", "static_base_1", true},
    {"overlay_11", "static_base_1", true},
    {"overlay_12", "static_base_1", true},
    {"overlay_13", "static_base_1", true},
    {"overlay_15", "static_base_1", true},
    {"overlay_16", "static_base_1", true},
    {"overlay_17", "static_base_1", true},
    {"overlay_18", "static_base_1", true},
    {"overlay_19", "static_base_1", true},
    {"overlay_20", "static_base_1", true},
    {"overlay_gpio_01", "static_base_1", true},
    {"overlay_gpio_02a", "static_base_1", true},
    {"overlay_gpio_02b", "static_base_1", true},
    {"overlay_gpio_03", "static_base_1", true},
    {"overlay_gpio_04a", "static_base_1", true},
    {"overlay_gpio_04b", "static_base_1", true},
    {"overlay_bad_add_dup_node", "static_base_2", false},
    {"overlay_bad_add_dup_prop", "static_base_2", false},
    {"overlay_bad_phandle", "static_base_2", false},
    {"overlay_bad_symbol", "static_base_2", false},
};

static void the_kernels_overlays_behave(void) {
    const char *w = test_folder("unittest");
    size_t good = 0, bad = 0;
    for (size_t i = 0; i < sizeof overlays / sizeof *overlays; i++)
        for (int blobs = 0; blobs < 2; blobs++) {
            bool labels = strcmp(overlays[i].name, "overlay") == 0 || !overlays[i].good;
            struct outcome o = run_shell(
                "set -e; cd '%s/drivers/of/unittest-data'; m='%s'; w='%s'; i='-I ../../../include "
                "-I ../../../scripts/dtc/include-prefixes'; rm -f $w/*; $m tree compile %s.dts $i "
                "--keep-labels -q -o $w/base.dtb; o=%s.dts; if [ %d = 1 ]; then $m tree compile $o "
                "$i %s -q -o $w/o.dtbo; o=$w/o.dtbo; fi; r=0; $m tree apply $w/base.dtb $o $i -q "
                "-o "
                "$w/made.dtb || r=$?; [ $r = 0 ] || [ ! -e $w/made.dtb ]; exit $r",
                sources(), MOSAICUM_PROGRAM, w, overlays[i].base, overlays[i].name, blobs,
                labels ? "--keep-labels" : "");
            CU_ASSERT_EQUAL(o.status, overlays[i].good ? 0 : 1);
            if (o.status != (overlays[i].good ? 0 : 1))
                fprintf(stderr, "%s: %s%s\n", overlays[i].name, o.out, o.err);
            good += o.status == 0;
            bad += o.status == 1;
            outcome_free(&o);
        }
    proved("the kernel's overlay test data",
           "%zu applied and %zu refused, as blobs and sources, as its table has it", good, bad);
}

SUITE(trees_suite, {"sources compile to what is shipped", sources_compile_to_what_is_shipped},
      {"blobs come back", blobs_come_back},
      {"other architectures compile", other_architectures_compile},
      {"tokens are those of the system", tokens_are_those_of_the_system},
      {"generated tokens are those of the system", generated_tokens_are_those_of_the_system},
      {"the kernel's overlays behave", the_kernels_overlays_behave});
