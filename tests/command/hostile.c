/* Inputs that mean harm, and faults of the computer: nothing is obeyed, nothing grows without
 * bound, nothing wrong is kept or believed. */
#define _GNU_SOURCE
#include "support.h"

#include "base/bytes.h"

#include <archive.h>
#include <archive_entry.h>
#include <stdlib.h>
#include <string.h>
#include <sys/resource.h>
#include <sys/stat.h>
#include <sys/wait.h>
#include <unistd.h>

#if defined(__SANITIZE_ADDRESS__)
#define SANITIZED 1
#elif defined(__has_feature)
#if __has_feature(address_sanitizer)
#define SANITIZED 1
#endif
#endif
#ifndef SANITIZED
#define SANITIZED 0
#endif

/* ---- E18: what a terminal would obey ---- */

/* Escape, bell, delete, a C1 control in UTF-8, marks of direction, a byte that is no text. */
#define EVIL                                                                                       \
    "\x1b[31m\x07\x7f\xc2\x9b"                                                                     \
    "2J\xe2\x80\xae\xe2\x81\xa6"
#define EVIL_YAML "\\e[31m\\a\\x7f\\x9b2J\\u202e\\u2066"

/* The first byte of a text that a terminal might obey; NULL: there is none. */
static const char *obeyed(const char *text) {
    for (const unsigned char *p = (const unsigned char *)text; *p; p++) {
        if ((*p < 0x20 && *p != '\n' && *p != '\t') || *p == 0x7f)
            return (const char *)p;
        if (*p == 0xc2 && p[1] >= 0x80 && p[1] < 0xa0)
            return (const char *)p;
        if (*p == 0xe2 &&
            ((p[1] == 0x80 && (p[2] == 0x8e || p[2] == 0x8f || (p[2] >= 0xaa && p[2] <= 0xae))) ||
             (p[1] == 0x81 && p[2] >= 0xa6 && p[2] <= 0xa9)))
            return (const char *)p;
        size_t n = *p < 0x80 ? 1 : *p >= 0xf0 ? 4 : *p >= 0xe0 ? 3 : *p >= 0xc2 ? 2 : 0;
        for (size_t i = 1; i < n; i++)
            if ((p[i] & 0xc0) != 0x80)
                n = 0;
        if (!n)
            return (const char *)p;
        p += n - 1;
    }
    return NULL;
}

static void write_evil_archive(const char *path) {
    struct archive *a = archive_write_new();
    archive_write_set_format_gnutar(a);
    archive_write_open_filename(a, path);
    static const char *const names[] = {"etc/" EVIL, "etc/motd", "sbin/init", "../" EVIL};
    for (size_t i = 0; i < sizeof names / sizeof *names; i++) {
        struct archive_entry *e = archive_entry_new();
        archive_entry_set_pathname(e, names[i]);
        archive_entry_set_filetype(e, AE_IFREG);
        archive_entry_set_perm(e, 0755);
        archive_entry_set_size(e, (la_int64_t)strlen(EVIL));
        archive_write_header(a, e);
        archive_write_data(a, EVIL, strlen(EVIL));
        archive_entry_free(e);
    }
    archive_write_close(a);
    archive_write_free(a);
}

static void nothing_a_terminal_obeys_gets_out(void) {
    char *w = test_folder("terminal");
    write_text(path_in(w, "mosaicum.yaml"), "mosaicum: 1\nworkspace: saltmarsh-survey\n");
    write_evil_archive(path_in(w, "evil.tar"));
    write_file(path_in(w, "pieces/" EVIL), "x", 1);
    write_text(path_in(w, "boards/curlew.yaml"),
               "mosaicum: 1\nboard: curlew\nabout: \"" EVIL_YAML "\"\n\"" EVIL_YAML "\": 1\n"
               "hardware: {cpu: \"" EVIL_YAML "\", console: {port: \"" EVIL_YAML
               "\"}, media: {card: {kind: "
               "sd, size: 8 MiB, kernel: \"" EVIL_YAML "\"}}}\n"
               "pieces: {root: {file: evil.tar}, b: {file: \"pieces/" EVIL_YAML
               "\", license: \"" EVIL_YAML "\"}, c: {file: \"" EVIL_YAML "\"}}\n"
               "boot: {entries: {main: {kernel: \"" EVIL_YAML "\", arguments: {root: \"" EVIL_YAML
               "\", a: \"" EVIL_YAML "\"}}}}\n"
               "system: {host-name: \"" EVIL_YAML
               "\"}\nloader: {dialect: u-boot, environments: {main: {base: none, values: "
               "{x: \"" EVIL_YAML "\", bootcmd: \"echo " EVIL_YAML "; " EVIL_YAML "\"}}}}\n"
               "layout: {card: {table: {kind: gpt}, regions: {root: {number: 1, size: rest, "
               "partition-name: "
               "\"" EVIL_YAML "\", volume: {kind: ext4, label: \"" EVIL_YAML
               "\", fills: {all: {archive: "
               "root}}}}}}}\n");
    write_text(path_in(w, "boards/dunlin.yaml"), "mosaicum: 1\nboard: dunlin\nx: [" EVIL "\n");
    write_text(
        path_in(w, "boards/avocet.yaml"),
        "mosaicum: 1\nboard: avocet\nhardware: {media: {card: {kind: sd, size: 8 MiB}}}\npieces: "
        "{root: {file: good.tar, license: MIT}}\nlayout: {card: {table: {kind: gpt}, regions: "
        "{root: "
        "{number: 1, size: rest, volume: {kind: ext4, label: root, fills: {all: {archive: "
        "root}}}}}}}\n");
    CU_ASSERT(runs(0,
                   "cd '%s' && mkdir -p r/etc && printf x > \"r/etc/$(printf '" EVIL
                   "')\" && tar -C r -cf good.tar etc && '%s' --no-cache -q build avocet",
                   w, MOSAICUM_PROGRAM));
    CU_ASSERT(
        runs(0,
             "cd '%s' && cp out/avocet/card.img card.img && '%s' -q take card.img root -o root.img "
             "&& e2label root.img \"$(printf '\\033[31m\\007x')\" && cp card.img \"$(printf '" EVIL
             "')\"",
             w, MOSAICUM_PROGRAM));
    static const char *const commands[] = {"check",
                                           "check -v curlew",
                                           "check dunlin",
                                           "build curlew",
                                           "show curlew all",
                                           "show curlew layout",
                                           "show curlew boot",
                                           "show curlew env",
                                           "show curlew ram",
                                           "show curlew tree",
                                           "show curlew kernel",
                                           "show curlew budgets",
                                           "show curlew all --trail",
                                           "list",
                                           "pin curlew",
                                           "compare curlew avocet",
                                           "check --accept curlew",
                                           "inspect card.img --files",
                                           "inspect root.img --files",
                                           "take card.img 'root:etc/$E'",
                                           "take card.img '$E'",
                                           "take '$E' root",
                                           "inspect '$E'",
                                           "inspect 'none$E'",
                                           "compare card.img '$E'",
                                           "compare card.img 'none$E'",
                                           "amend card.img 'root:$E=card.img' -o 'n$E'",
                                           "amend card.img '$E' -o x",
                                           "rehearse card.img",
                                           "rehearse avocet",
                                           "rehearse '$E'",
                                           "new 'x$E'",
                                           "new x --from card.img",
                                           "new y --kernel 'none$E'",
                                           "explain '$E'",
                                           "'$E'",
                                           "--'$E'",
                                           "check '$E'",
                                           "show curlew '$E'",
                                           "-w '$E' check",
                                           "build 'curlew+$E'",
                                           "demo '$E/x'",
                                           "explain",
                                           "--help",
                                           "explain layout.overlap"};
    static const char *const ways[] = {"", "--color always", "--json"};
    for (size_t i = 0; i < sizeof commands / sizeof *commands; i++)
        for (size_t k = 0; k < 3; k++) {
            struct outcome o =
                run_shell("cd '%s' && E=\"$(printf '" EVIL "')\" && eval \"$(printf '%%s' "
                          "\"'%s' --no-cache %s %s\")\"",
                          w, MOSAICUM_PROGRAM, ways[k], commands[i]);
            char *texts[] = {o.out, o.err};
            for (size_t t = 0; t < 2; t++) {
                static const char *const ours[] = {"\033[1;91m", "\033[1;93m", "\033[1;96m",
                                                   "\033[1m",    "\033[90m",   "\033[1;92m",
                                                   "\033[0m"};
                for (size_t c = 0; k == 1 && c < sizeof ours / sizeof *ours; c++)
                    for (char *p; (p = strstr(texts[t], ours[c]));)
                        memmove(p, p + strlen(ours[c]), strlen(p + strlen(ours[c])) + 1);
                const char *bad = obeyed(texts[t]);
                if (bad)
                    fprintf(stderr, "\n%s %s: %02x in …%.40s\n", ways[k], commands[i],
                            (unsigned char)*bad, bad > texts[t] + 20 ? bad - 20 : texts[t]);
                CU_ASSERT_PTR_NULL(bad);
            }
            CU_ASSERT(o.status <= 4);
            outcome_free(&o);
        }
}

static size_t put_utf8(uint32_t c, char *to) {
    if (c < 0x80)
        return (size_t)sprintf(to, "%c", (char)c);
    if (c < 0x800)
        return (size_t)sprintf(to, "%c%c", (char)(0xc0 | c >> 6), (char)(0x80 | (c & 63)));
    if (c < 0x10000)
        return (size_t)sprintf(to, "%c%c%c", (char)(0xe0 | c >> 12), (char)(0x80 | (c >> 6 & 63)),
                               (char)(0x80 | (c & 63)));
    return (size_t)sprintf(to, "%c%c%c%c", (char)(0xf0 | c >> 18), (char)(0x80 | (c >> 12 & 63)),
                           (char)(0x80 | (c >> 6 & 63)), (char)(0x80 | (c & 63)));
}

/* The first and the last of each range that a terminal might obey, and their neighbours. */
static void what_is_harmless_is_shown(void) {
    static const struct {
        uint32_t first, last;
    } bad[] = {{1, 8},           {11, 31},          {0x7f, 0x9f},     {0x61c, 0x61c},
               {0x200e, 0x200f}, {0x2028, 0x202e},  {0x2066, 0x2069}, {0xfeff, 0xfeff},
               {0xfff9, 0xfffb}, {0xe0000, 0xe007f}};
    static const uint32_t good[] = {0x20,   0x7e,    0xa0,    0x7ff,   0x800,   0xfff,  0x1000,
                                    0x61b,  0x61d,   0x200d,  0x2010,  0x2027,  0x202f, 0x2065,
                                    0x206a, 0xd7ff,  0xe000,  0xfefe,  0xff00,  0xfff8, 0xfffc,
                                    0xffff, 0x10000, 0xdffff, 0xe0080, 0x10ffff};
    char *w = test_folder("letters"), name[32];
    write_text(path_in(w, "mosaicum.yaml"), "mosaicum: 1\nworkspace: saltmarsh-survey\n");
    for (size_t i = 0; i < sizeof bad / sizeof *bad + sizeof good / sizeof *good; i++) {
        bool harmless = i >= sizeof bad / sizeof *bad;
        size_t k = i - sizeof bad / sizeof *bad;
        uint32_t ends[] = {harmless ? good[k] : bad[i].first, harmless ? good[k] : bad[i].last};
        for (size_t e = 0; e < 2; e++) {
            sprintf(name, "<");
            size_t n = 1 + put_utf8(ends[e], name + 1);
            sprintf(name + n, ">");
            /* a name that is not there stands in the message */
            struct outcome o =
                run_shell("'%s' -w '%s' inspect '%s/%s'", MOSAICUM_PROGRAM, w, w, name);
            CU_ASSERT_EQUAL(o.status, 2);
            CU_ASSERT_EQUAL(strstr(o.err, name) != NULL, harmless);
            outcome_free(&o);
        }
    }
    /* what is no UTF-8: too long, cut, a surrogate, beyond the last, a lone follower */
    static const char *const broken[] = {"\xc0\xaf",     "\xe0\x9f\xbf",     "\xf0\x8f\xbf\xbf",
                                         "\xed\xa0\x80", "\xf4\x90\x80\x80", "\x80",
                                         "\xe2\x82",     "\xf5\x80\x80\x80", "\xff"};
    for (size_t i = 0; i < sizeof broken / sizeof *broken; i++) {
        struct outcome o =
            run_shell("'%s' -w '%s' inspect '%s/<%s>'", MOSAICUM_PROGRAM, w, w, broken[i]);
        CU_ASSERT_PTR_NULL(strstr(o.err, broken[i]));
        CU_ASSERT_PTR_NULL(obeyed(o.err));
        outcome_free(&o);
    }
    /* one line of a list stays one line */
    write_text(path_in(w, "boards/curlew.yaml"),
               "mosaicum: 1\nboard: curlew\nabout: \"one\\ttwo\\nthree\\rfour\"\n");
    struct outcome o = run_shell("'%s' -w '%s' list", MOSAICUM_PROGRAM, w);
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "one two three four"));
    outcome_free(&o);
}

/* ---- E16, E19: programs and bounds ---- */

/* What packed forms of other programs' making would start is not started. */
static void no_program_is_started_by_a_piece(void) {
    static const struct {
        const char *name, *bytes;
        size_t length;
    } heads[] = {{"lrzip", "LRZI\0\6", 6},
                 {"lzop", "\x89LZO\0\r\n\x1a\n\x10\x20", 11},
                 {"grzip", "GRZipII\0\2\4:)", 12},
                 {"uudecode", "begin 644 x\n", 12},
                 {"rpm2cpio", "\xed\xab\xee\xdb\3\0", 6}};
    char *w = test_folder("programs");
    CU_ASSERT(runs(
        0,
        "mkdir -p '%s/bin' && cd '%s/bin' && for p in lrzip lrunzip lzop grzip gzip xz bzip2 "
        "zstd lz4 cpio tar; do printf '#!/bin/sh\\necho ran >> %s/ran\\n' > $p; chmod +x $p; done",
        w, w, w));
    write_text(path_in(w, "mosaicum.yaml"), "mosaicum: 1\nworkspace: saltmarsh-survey\n");
    write_text(
        path_in(w, "boards/curlew.yaml"),
        "mosaicum: 1\nboard: curlew\nhardware: {media: {card: {kind: sd, size: 8 MiB}}}\npieces: "
        "{root: "
        "{file: evil.tar}}\nlayout: {card: {table: {kind: gpt}, regions: {root: {number: 1, size: "
        "rest, volume: {kind: ext4, fills: {all: {archive: root}}}}}}}\n");
    for (size_t i = 0; i < sizeof heads / sizeof *heads; i++) {
        uint8_t bytes[4096] = {0};
        memcpy(bytes, heads[i].bytes, heads[i].length);
        write_file(path_in(w, "evil.tar"), bytes, sizeof bytes);
        static const char *const commands[] = {"check", "inspect evil.tar", "take evil.tar '' -o x",
                                               "compare evil.tar evil.tar"};
        for (size_t k = 0; k < sizeof commands / sizeof *commands; k++) {
            struct outcome o =
                run_shell("cd '%s' && PATH='%s/bin':$PATH '%s' --no-cache --no-run %s", w, w,
                          MOSAICUM_PROGRAM, commands[k]);
            CU_ASSERT(k || (o.status == 1 && strstr(o.out, "piece.format")));
            outcome_free(&o);
            unlink(path_in(w, "x"));
        }
        CU_ASSERT_FALSE(exists(path_in(w, "ran")));
    }
}

/* Runs the program with its arguments; kilobytes of memory at its peak. */
static long peak_of(const char *folder, const char *const *arguments, int *status) {
    struct rusage use;
    pid_t pid = fork();
    if (pid == 0) {
        if (chdir(folder) || !freopen("/dev/null", "w", stdout) ||
            !freopen("/dev/null", "w", stderr))
            _exit(127);
        alarm(60);
        execv(MOSAICUM_PROGRAM, (char *const *)(uintptr_t)arguments);
        _exit(127);
    }
    wait4(pid, status, 0, &use);
    return use.ru_maxrss;
}

static void bounds_are_kept(void) {
    char *w = test_folder("bounds");
    /* a ramdisk of many files, much of nothing, a dictionary larger than what is given */
    CU_ASSERT(runs(
        0,
        "cd '%s' && mkdir m && (cd m && seq -f f%%.0f 20000 | xargs touch && ls -U | cpio --quiet "
        "-o -H newc) > many.cpio && gzip -9 many.cpio && head -c 256M /dev/zero | gzip -9 > "
        "nothing.gz && head -c 256M /dev/zero | zstd -q -o nothing.zst && echo x | xz "
        "--lzma2=dict=1536MiB > dict.xz && mkfifo pipe && rm -r m",
        w));
    static const struct {
        const char *arguments[6];
        int status;
        long megabytes;
    } cases[] = {
        {{"take", "many.cpio.gz", "cpio:", "-o", "many.tar"}, 0, 64},
        {{"inspect", "many.cpio.gz", "--files"}, 0, 96},
        {{"inspect", "nothing.gz"}, 0, 64},
        {{"inspect", "nothing.zst"}, 0, 64},
        {{"inspect", "nothing.gz", "--expand-to", "64 MiB"}, 2, 64},
        {{"inspect", "nothing.gz", "--expand-to", "2 GiB"}, 0, 64},
        {{"inspect", "nothing.gz", "--expand-to", "much"}, 2, 64},
        {{"inspect", "dict.xz"}, 2, 64},
        {{"inspect", "pipe"}, 2, 64},
        {{"inspect", "/dev/zero"}, 2, 64},
        {{"take", "pipe", "x"}, 2, 64},
        {{"compare", "pipe", "pipe"}, 2, 64},
        {{"rehearse", "/dev/zero"}, 2, 64},
    };
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        const char *arguments[8] = {"mosaicum", "--no-cache"};
        int status;
        for (size_t k = 0; k < 6; k++)
            arguments[k + 2 < 7 ? k + 2 : 7] = cases[i].arguments[k];
        arguments[7] = NULL;
        long kilobytes = peak_of(w, arguments, &status);
        bool good = WIFEXITED(status) && WEXITSTATUS(status) == cases[i].status &&
                    kilobytes < cases[i].megabytes * 1024 * (SANITIZED ? 8 : 1);
        if (!good)
            printf("\n%s %s: %d, %ld KiB\n", cases[i].arguments[0], cases[i].arguments[1],
                   WIFEXITED(status) ? WEXITSTATUS(status) : -1, kilobytes);
        CU_ASSERT_TRUE(good);
    }
}

/* A file that goes round in circles gives no more than its volume has. */
static void circles_end(void) {
    char *w = test_folder("circles");
    CU_ASSERT(runs(0,
                   "cd '%s' && truncate -s 4M fat.img && mkfs.fat -F 16 -s 1 -n LOOP fat.img "
                   ">/dev/null && head "
                   "-c 100000 /dev/urandom > big && '%s' -q amend fat.img LOOP:big=big -o loop.img",
                   w, MOSAICUM_PROGRAM));
    size_t size;
    uint8_t *p = (uint8_t *)read_whole(path_in(w, "loop.img"), &size);
    CU_ASSERT_PTR_NOT_NULL_FATAL(p);
    size_t fat = 512u * mos_le16(p + 14), fats = p[16], sectors = mos_le16(p + 22);
    uint8_t *folder = p + fat + 512 * fats * sectors;
    for (uint8_t *e = folder; *e; e += 32)
        if (memcmp(e, "BIG ", 4) == 0) {
            unsigned first = mos_le16(e + 26);
            mos_put_le32(e + 28, UINT32_MAX); /* as long as it can be */
            for (size_t i = 0; i < fats; i++)
                mos_put_le16(p + fat + 512 * sectors * i + 2 * first, (uint16_t)first);
        }
    write_file(path_in(w, "loop.img"), p, size);
    free(p);
    CU_ASSERT(runs(3, "cd '%s' && ulimit -f 20000 && '%s' take loop.img LOOP:big -o out && false",
                   w, MOSAICUM_PROGRAM));
    CU_ASSERT_FALSE(exists(path_in(w, "out")));
}

/* ---- D15: the cache ---- */

static void damage(uint64_t *state, const char *folder, unsigned kind) {
    /* one record, chosen by chance, of those that are there */
    struct outcome o = run_shell("ls '%s'", folder);
    char *names[512], *p = o.out;
    size_t count = 0;
    for (char *end; count < 512 && (end = strchr(p, '\n')); p = end + 1) {
        *end = 0;
        names[count++] = p;
    }
    CU_ASSERT_FATAL(count > 1);
    char *path = path_in(folder, "%s", names[random_below(state, count)]);
    char *other = path_in(folder, "%s", names[random_below(state, count)]);
    size_t length, n;
    char *bytes = read_whole(path, &length), *more = read_whole(other, &n);
    switch (kind % 6) {
    case 0: /* some bits */
        for (unsigned i = 0; length && i < 1 + random_below(state, 4); i++)
            bytes[random_below(state, length)] ^= (char)(1 << random_below(state, 8));
        write_file(path, bytes, length);
        break;
    case 1: /* cut */
        write_file(path, bytes, length ? random_below(state, length) : 0);
        break;
    case 2: /* empty */
        write_file(path, "", 0);
        break;
    case 3: /* another's */
        write_file(path, more, n);
        break;
    case 4: /* of another format */
        write_file(path, "mosaic\0\1something older", 24);
        break;
    default: /* longer */
        bytes = realloc(bytes, length + 100);
        memset(bytes + length, 'x', 100);
        write_file(path, bytes, length + 100);
    }
    free(bytes);
    free(more);
    outcome_free(&o);
}

/* Whatever becomes of the cache: what is built is what is built without one, without a word. */
static void the_cache_is_never_believed_blindly(void) {
    const unsigned rounds = getenv("MOSAICUM_FULL") ? 1200 : 60;
    char *w = test_folder("cache"), *store = test_folder("cache-store");
    copy_demo(w);
    CU_ASSERT(
        runs(0,
             "sed -i 's/size: 960 MiB, erase: 4 MiB/size: 20 MiB/; s/size: 64 MiB/size: 4 MiB/; "
             "s/fat32/fat16/' '%s/boards/curlew.yaml'",
             w));
    CU_ASSERT_FATAL(
        runs(0,
             "'%s' --no-cache -q -w '%s' build --out '%s/plain' && (cd '%s/plain/curlew' && "
             "cksum * > '%s/sums')",
             MOSAICUM_PROGRAM, w, w, w, w));
    CU_ASSERT_FATAL(
        runs(0,
             "sleep 0.1; XDG_CACHE_HOME='%s' '%s' -q -w '%s' build && XDG_CACHE_HOME='%s' '%s' "
             "-q -w '%s' check",
             store, MOSAICUM_PROGRAM, w, store, MOSAICUM_PROGRAM, w));
    CU_ASSERT(runs(
        0,
        "test $(stat -c %%a '%s/mosaicum') = 700 && ! find '%s/mosaicum' -type f ! -perm 600 | "
        "grep .",
        store, store));
    uint64_t state = 15;
    for (unsigned i = 0; i < rounds; i++) {
        damage(&state, path_in(store, "mosaicum"), i);
        struct outcome o =
            run_shell("export XDG_CACHE_HOME='%s'; '%s' -q -w '%s' check && rm -rf '%s/out' && "
                      "'%s' -q -w '%s' build && cd '%s/out/curlew' && cksum * | cmp - "
                      "'%s/sums'",
                      store, MOSAICUM_PROGRAM, w, w, MOSAICUM_PROGRAM, w, w, w);
        if (o.status || *o.out || *o.err)
            printf("\n%u: %d %s%s\n", i, o.status, o.out, o.err);
        CU_ASSERT(!o.status && !*o.out && !*o.err);
        outcome_free(&o);
    }
}

/* No password of the demo's root, and no umask, makes the cache tell more than it should. */
static void the_cache_is_private(void) {
    char *w = test_folder("private"), *store = test_folder("private-store");
    copy_demo(w);
    CU_ASSERT(runs(
        0,
        "cd '%s' && mkdir r && zstd -qdc pieces/rootfs.tar.zst | tar -C r --exclude ./dev -xf "
        "- && rm -f mosaicum.pins && mkdir -p r/dev r/etc/systemd/system/multi-user.target.wants "
        "r/etc/ssh r/etc/wifi && echo '//sea/log /mnt cifs password=Sw0rdf1sh' > r/etc/fstab && "
        "printf '[Service]\\nEnvironment=KEY=Sw0rdf1sh\\nExecStart=/bin/sh Sw0rdf1sh\\n' > "
        "r/etc/systemd/system/tide.service && ln -s ../tide.service "
        "r/etc/systemd/system/multi-user.target.wants/tide.service && echo "
        "'tide:$6$salt$Sw0rdf1shSw0rdf1sh:1::::::' >> "
        "r/etc/shadow && echo 'KEY-Sw0rdf1sh' > r/etc/ssh/own_key && echo 'psk=Sw0rdf1sh' > "
        "r/etc/wifi/net && tar -C r --owner=0 --group=0 -cf - . | zstd -q > new && mv new "
        "pieces/rootfs.tar.zst",
        w));
    struct outcome o = run_shell(
        "umask 0; XDG_CACHE_HOME='%s' '%s' -w '%s' check; ls '%s/mosaicum'; grep -raoc Sw0rdf1sh "
        "'%s/mosaicum' | grep -v ':0$'; find '%s/mosaicum' -perm /077",
        store, MOSAICUM_PROGRAM, w, store, store, store);
    CU_ASSERT_PTR_NULL(strstr(o.out, "private-store"));
    CU_ASSERT(strstr(o.out, "\nbytes-") && strstr(o.out, "\nunits-")); /* it was asked */
    outcome_free(&o);
}

/* ---- F21: options and suites ---- */

static void foreign_options_are_told(void) {
    static const struct {
        const char *arguments, *says;
    } cases[] = {{"list --faults", "--faults is no option of list"},
                 {"list --baud 9", "--baud is no option of list"},
                 {"check --out x", "--out is no option of check; it takes: --strict --accept"},
                 {"build --trail", "--trail is no option of build"},
                 {"inspect x -o y", "--output is no option of inspect"},
                 {"explain --strict", "--strict is no option of explain"},
                 {"rehearse curlew --planned --faults", "--faults breaks what was built"},
                 {"rehearse curlew --planned --flash x", "--flash is for an image"}};
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        struct outcome o = run_shell("'%s' -w '%s/demo/saltmarsh' %s", MOSAICUM_PROGRAM,
                                     MOSAICUM_SOURCE, cases[i].arguments);
        CU_ASSERT(o.status == 2 && strstr(o.err, cases[i].says));
        outcome_free(&o);
    }
}

SUITE(hostile_suite, {"what is harmless is shown", what_is_harmless_is_shown},
      {"nothing a terminal obeys gets out", nothing_a_terminal_obeys_gets_out},
      {"no program is started by a piece", no_program_is_started_by_a_piece},
      {"bounds are kept", bounds_are_kept}, {"circles end", circles_end},
      {"the cache is never believed blindly", the_cache_is_never_believed_blindly},
      {"the cache is private", the_cache_is_private},
      {"foreign options are told", foreign_options_are_told});
