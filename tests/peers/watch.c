/* What the program touches, as the kernel saw it: nothing outside of workspace, output and cache is
 * opened for writing, and nothing outside of these and of what every program needs for reading. */
#define _GNU_SOURCE
#include "peers.h"

#include <stdlib.h>
#include <string.h>

static struct {
    size_t commands, reads, writes, starts, bad;
    const char *allowed; /* the folder of all that the command was given */
} watch;

static bool below(const char *path, const char *place) {
    size_t n = strlen(place);
    return strncmp(path, place, n) == 0 && (!path[n] || path[n] == '/' || place[n - 1] == '/');
}

/* Libraries, the C preprocessor, locales and clocks: what no definition can choose. */
static bool is_of_the_system(const char *path) {
    static const char *const places[] = {"/lib",
                                         "/lib64",
                                         "/usr/lib",
                                         "/usr/lib64",
                                         "/usr/libexec",
                                         "/usr/bin",
                                         "/bin",
                                         "/usr/local/lib",
                                         "/usr/local/bin",
                                         "/usr/share/locale",
                                         "/usr/share/zoneinfo",
                                         "/etc/ld.so.cache",
                                         "/etc/ld.so.preload",
                                         "/etc/localtime",
                                         "/etc/ssl",
                                         "/proc/self",
                                         "/proc/thread-self",
                                         "/proc/meminfo",
                                         "/proc/sys/vm/overcommit_memory", /* the C library */
                                         "/proc/filesystems",
                                         "/sys/devices/system/cpu",
                                         "/sys/fs/cgroup",
                                         "/dev"};
    if (below(path, MOSAICUM_PROGRAM))
        return true;
    for (size_t i = 0; i < sizeof places / sizeof *places; i++)
        if (below(path, places[i]))
            return true;
    return false;
}

static void judge(const char *call, char *path, bool write, bool failed, const char *folder) {
    char whole[8192];
    snprintf(whole, sizeof whole, "%s%s%s", *path == '/' ? "" : folder, *path == '/' ? "" : "/",
             path);
    bool inside = below(whole, watch.allowed);
    if (strstr(whole, "/../")) { /* resolved, when it is there at all */
        char *real = realpath(whole, NULL);
        inside = real ? below(real, watch.allowed) || (!write && is_of_the_system(real)) : failed;
        free(real);
    }
    write ? watch.writes++ : watch.reads++;
    bool there = strncmp(call, "mkdir", 5) == 0 && below(watch.allowed, whole);
    if (inside || there || (!write && (failed || is_of_the_system(whole))) ||
        (write && strcmp(whole, "/dev/null") == 0))
        return;
    watch.bad++;
    fprintf(stderr, "\n%s %s: %s\n", write ? "written" : "read", whole, call);
}

/* One line: PID CALL(ARGUMENTS) = RESULT; names of folders stand behind descriptors: 5</a/b>. */
static void judge_line(char *line, const char *folder) {
    char *open = strchr(line, '('), *name = open, base[4200];
    if (!open)
        return;
    while (name > line && name[-1] != ' ')
        name--;
    *open = 0;
    char *rest = open + 1;
    bool failed = strstr(rest, " = -1 ") != NULL, run = strcmp(name, "execve") == 0;
    bool write = !run && strncmp(name, "open", 4) != 0;
    if (!write)
        write =
            !run && (strstr(rest, "O_WRONLY") || strstr(rest, "O_RDWR") || strstr(rest, "O_CREAT"));
    watch.starts += run && !failed;
    snprintf(base, sizeof base, "%s", folder);
    for (char *p = rest; *p && *p != ')'; p++) {
        if (*p == '<') { /* the folder that what follows counts from */
            size_t n = strcspn(p + 1, ">");
            snprintf(base, sizeof base, "%.*s", (int)n, p + 1);
            p += n;
        } else if (*p == '"') {
            char *end = strchr(p + 1, '"');
            if (!end)
                return;
            *end = 0;
            /* the text of a symbolic link is content */
            bool text = strncmp(name, "symlink", 7) == 0 && p == rest;
            if (p[1] && !text)
                judge(name, p + 1, write, failed, base);
            if (run)
                return;
            p = end;
        }
    }
}

static void under_watch(const char *folder, const char *command) {
    const char *log = keep(path_in(folder, "calls.log"));
    struct outcome o = run_shell(
        "cd '%s' && XDG_CACHE_HOME='%s/cache' TMPDIR='%s/tmp' strace -f -y -qq -s 4096 -o "
        "calls.log "
        "-e trace=open,openat,openat2,creat,rename,renameat,renameat2,unlink,unlinkat,rmdir,mkdir,"
        "mkdirat,link,linkat,symlink,symlinkat,mknod,mknodat,truncate,chmod,fchmodat,chown,lchown,"
        "fchownat,utimensat,execve '%s' %s </dev/null >/dev/null 2>said",
        folder, folder, folder, MOSAICUM_PROGRAM, command);
    CU_ASSERT(o.status >= 0 && o.status <= 4);
    outcome_free(&o);
    size_t length;
    char *text = read_whole(log, &length);
    CU_ASSERT_TRUE_FATAL(text && length);
    for (char *line = text, *end; (end = strchr(line, '\n')); line = end + 1) {
        *end = 0;
        judge_line(line, folder);
    }
    free(text);
    watch.commands++;
}

static void nothing_outside_is_touched(void) {
    static const char *const jobs[] = {"-w w check",
                                       "-w w show all",
                                       "-w w list",
                                       "-w w build --out built",
                                       "-w w rehearse",
                                       "-w w check --accept",
                                       "-w w --no-cache build --no-run",
                                       "-w w new jetty"};
    struct outcome o =
        run_shell("ls -d '%s'/tests/rules/*/* | shuf --random-source='%s' | head -n %d",
                  MOSAICUM_SOURCE, MOSAICUM_PROGRAM, peers_all() ? 9999 : 24);
    memset(&watch, 0, sizeof watch);
    for (char *p = o.out, *end; (end = strchr(p, '\n')); p = end + 1) {
        *end = 0;
        const char *f = keep(test_folder("watched"));
        watch.allowed = f;
        CU_ASSERT_TRUE_FATAL(runs(0, "mkdir '%s/tmp' && cp -r '%s' '%s/w'", f, p, f));
        for (size_t i = 0; i < sizeof jobs / sizeof *jobs; i++)
            under_watch(f, jobs[i]);
        remove_folder(f);
    }
    outcome_free(&o);
    /* the demo, and what is done with images */
    static const char *const more[] = {
        "-w w build curlew+bench --out built",
        "-w w check",
        "inspect built/curlew+bench/card.img",
        "take built/curlew+bench/card.img root -o root.img",
        "take built/curlew+bench/card.img root: -o root.tar",
        "amend built/curlew+bench/card.img boot:note=said -o amended.img",
        "compare built/curlew+bench/card.img amended.img",
        ("rehearse built/curlew+bench/card.img --cpu arm64 --ram-start "
         "0x40000000 --ram '512 MiB'"),
        "-w n new mast --from amended.img"};
    const char *f = keep(test_folder("watched-demo"));
    watch.allowed = f;
    CU_ASSERT_TRUE_FATAL(runs(0, "mkdir '%s/tmp' '%s/n' && cp -r '%s/demo/saltmarsh' '%s/w'", f, f,
                              MOSAICUM_SOURCE, f));
    for (size_t i = 0; i < sizeof more / sizeof *more; i++)
        under_watch(f, more[i]);
    /* a definition that asks for what it may not have */
    write_text(path_in(f, "w/tree/curlew.dts"), "/dts-v1/;\n#include \"/etc/hostname\"\n/ { a = "
                                                "/incbin/(\"../../../../etc/passwd\"); };\n");
    CU_ASSERT(runs(0, "ln -sfn /etc/passwd '%s/w/kernel/curlew.config'", f));
    size_t bad = watch.bad;
    under_watch(f, "-w w check curlew");
    under_watch(f, "-w w build curlew --out built");
    CU_ASSERT_EQUAL(bad, watch.bad);
    CU_ASSERT_EQUAL(watch.bad, 0);
    proved("what the kernel saw of us",
           "%zu commands, %zu names read, %zu written, %zu programs started: none outside",
           watch.commands, watch.reads, watch.writes, watch.starts);
    remove_folder(f);
}

SUITE(watch_suite, {"nothing outside is touched", nothing_outside_is_touched});
