/* Files for boards over the network: the built program, asked by clients of the test's own. */
#define _GNU_SOURCE
#include "support.h"

#include <arpa/inet.h>
#include <fcntl.h>
#include <poll.h>
#include <signal.h>
#include <stdlib.h>
#include <string.h>
#include <sys/socket.h>
#include <sys/wait.h>
#include <unistd.h>

enum { ANSWERS_MS = 20000, MOST_FILE = 32 << 20 };

struct server {
    const char *w;
    unsigned tftp, http;
    pid_t pid;
};

/* ---- the program ---- */

static unsigned free_port(int type) {
    struct sockaddr_in a = {.sin_family = AF_INET, .sin_addr = {htonl(INADDR_LOOPBACK)}};
    socklen_t n = sizeof a;
    int fd = socket(AF_INET, type, 0);
    CU_ASSERT_EQUAL_FATAL(bind(fd, (struct sockaddr *)&a, n), 0);
    getsockname(fd, (struct sockaddr *)&a, &n);
    close(fd);
    return ntohs(a.sin_port);
}

static bool said(const struct server *s, const char *words) {
    for (int i = 0; i < 2000; i++) {
        char *text = read_whole(path_in(s->w, "said"), NULL);
        bool has = text && strstr(text, words);
        free(text);
        if (has)
            return true;
        usleep(10000);
    }
    fprintf(stderr, "\nit never said: %s\n", words);
    return false;
}

static void start(struct server *s, const char *const *more) {
    char tftp[8], http[8];
    s->tftp = free_port(SOCK_DGRAM);
    s->http = free_port(SOCK_STREAM);
    snprintf(tftp, sizeof tftp, "%u", s->tftp);
    snprintf(http, sizeof http, "%u", s->http);
    const char *arguments[24] = {MOSAICUM_PROGRAM,
                                 "--no-cache",
                                 "-w",
                                 s->w,
                                 "serve",
                                 "--at",
                                 "127.0.0.1",
                                 "--tftp-port",
                                 tftp,
                                 "--http-port",
                                 http,
                                 "--bench",
                                 path_in(s->w, "bench.yaml")};
    for (size_t n = 13; more && *more; more++)
        arguments[n++] = *more;
    write_text(path_in(s->w, "said"), "");
    s->pid = fork();
    if (!s->pid) {
        dup2(open(path_in(s->w, "told"), O_CREAT | O_TRUNC | O_WRONLY, 0644), 1);
        dup2(open(path_in(s->w, "said"), O_CREAT | O_TRUNC | O_WRONLY | O_APPEND, 0644), 2);
        execv(MOSAICUM_PROGRAM, (char *const *)(uintptr_t)arguments);
        _exit(127);
    }
    CU_ASSERT_TRUE_FATAL(said(s, "Serving at 127.0.0.1 (lo)"));
}

static char *stop(struct server *s) {
    int status;
    kill(s->pid, SIGINT);
    waitpid(s->pid, &status, 0);
    CU_ASSERT(WIFEXITED(status) && WEXITSTATUS(status) == 0);
    /* what is in the way is only said where something is */
    CU_ASSERT(runs(1, "grep 'drops it\\|looks for' '%s'", path_in(s->w, "said")));
    return read_whole(path_in(s->w, "told"), NULL);
}

static struct server workspace(void) {
    struct server s = {.w = keep(test_folder("serve"))};
    copy_folder(path_in(MOSAICUM_SOURCE, "demo/saltmarsh"), s.w);
    write_text(path_in(s.w, "bench.yaml"), "mosaicum: 1\nunits: {}\n");
    CU_ASSERT_TRUE(runs(0,
                        "cd '%s' && printf 'serve:\\n  list.txt: mosaicum.yaml\\n  update: {file: "
                        "mosaicum.pins, as: field/update.bin}\\n' >> boards/dunlin.yaml && '%s' "
                        "--no-cache -q build dunlin curlew",
                        s.w, MOSAICUM_PROGRAM));
    return s;
}

/* ---- a board that fetches (RFC 1350, 2348, 7440) ---- */

static ssize_t wait_for(int fd, uint8_t *p, size_t room, struct sockaddr_in *from) {
    struct pollfd one = {fd, POLLIN, 0};
    socklen_t n = sizeof *from;
    return poll(&one, 1, ANSWERS_MS) == 1 ? recvfrom(fd, p, room, 0, (struct sockaddr *)from, &n)
                                          : -1;
}

/* The file, malloc'ed; NULL: refused, and `words` has why. */
static uint8_t *fetch(const struct server *s, const char *name, unsigned block, unsigned window,
                      size_t *length, char words[128]) {
    static uint8_t p[70000];
    struct sockaddr_in to = {.sin_family = AF_INET,
                             .sin_port = htons((uint16_t)s->tftp),
                             .sin_addr = {htonl(INADDR_LOOPBACK)}};
    int fd = socket(AF_INET, SOCK_DGRAM, 0);
    uint8_t *all = malloc(MOST_FILE);
    unsigned number = 0, since = 0, size = block ? block : 512;
    int n = sprintf((char *)p, "%c%c%s%coctet", 0, 1, name, 0) + 1;
    if (block)
        n += sprintf((char *)p + n, "blksize%c%u%cwindowsize%c%u", 0, block, 0, 0, window) + 1;
    *length = 0;
    *words = 0;
    sendto(fd, p, (size_t)n, 0, (struct sockaddr *)&to, sizeof to);
    for (;;) {
        ssize_t got = wait_for(fd, p, sizeof p, &to);
        if (got < 4 || p[1] == 5) {
            snprintf(words, 128, "%s", got < 4 ? "silence" : (char *)p + 4);
            free(all);
            all = NULL;
            break;
        }
        bool block_came = p[1] == 3, last = block_came && (size_t)got - 4 < size;
        if (block_came && p[2] == (uint8_t)((number + 1) >> 8) && p[3] == (uint8_t)(number + 1)) {
            memcpy(all + *length, p + 4, (size_t)got - 4);
            *length += (size_t)got - 4;
            number++;
            since++;
        }
        if (!block_came || last || since == window || !block) {
            uint8_t ack[4] = {0, 4, (uint8_t)(number >> 8), (uint8_t)number};
            sendto(fd, ack, 4, 0, (struct sockaddr *)&to, sizeof to);
            since = 0;
        }
        if (last)
            break;
    }
    close(fd);
    return all;
}

static bool equals(const struct server *s, const char *file, const uint8_t *bytes, size_t length) {
    size_t size;
    char *own = read_whole(path_in(s->w, "%s", file), &size);
    bool same = bytes && own && size == length && memcmp(own, bytes, size) == 0;
    free(own);
    return same;
}

static bool fetches(const struct server *s, const char *name, unsigned block, unsigned window,
                    const char *file) {
    char words[128];
    size_t length;
    uint8_t *bytes = fetch(s, name, block, window, &length, words);
    bool same = equals(s, file, bytes, length);
    free(bytes);
    return same;
}

static bool refuses(const struct server *s, const char *name, const char *why) {
    char words[128];
    size_t length;
    uint8_t *bytes = fetch(s, name, 0, 1, &length, words);
    bool as_said = !bytes && strstr(words, why);
    if (!as_said)
        fprintf(stderr, "\n%s: %s\n", name, bytes ? "is given" : words);
    free(bytes);
    return as_said;
}

/* ---- HTTP ---- */

/* The whole answer to one request, NUL-terminated; *body: where its content begins. */
static char *ask(const struct server *s, const char *request, const char *fields, size_t *length,
                 const char **body) {
    struct sockaddr_in to = {.sin_family = AF_INET,
                             .sin_port = htons((uint16_t)s->http),
                             .sin_addr = {htonl(INADDR_LOOPBACK)}};
    int fd = socket(AF_INET, SOCK_STREAM, 0);
    char *all = malloc(MOST_FILE + 1);
    size_t at = 0;
    CU_ASSERT_EQUAL(connect(fd, (struct sockaddr *)&to, sizeof to), 0);
    dprintf(fd, "%s HTTP/1.1\r\nHost: x\r\nConnection: close\r\n%s\r\n", request, fields);
    for (ssize_t n; (n = read(fd, all + at, MOST_FILE - at)) > 0;)
        at += (size_t)n;
    close(fd);
    all[at] = 0;
    const char *end = strstr(all, "\r\n\r\n");
    *body = end ? end + 4 : all + at;
    *length = at - (size_t)(*body - all);
    return all;
}

static const struct {
    const char *request, *fields, *status, *has; /* what stands in its fields */
    const char *file;     /* of which the body is a part; NULL: it is words */
    size_t first, length; /* length 0: to its end */
} asked[] = {
    {"GET /flash.img", "", "200", "Accept-Ranges: bytes", "out/dunlin/flash.img", 0, 0},
    {"GET /dunlin/boot.scr", "", "200", "octet-stream", "out/dunlin/boot.scr", 0, 0},
    {"GET /flash.img", "Range: bytes=100000-100999\r\n", "206", "bytes 100000-100999/8388608",
     "out/dunlin/flash.img", 100000, 1000},
    {"GET /flash.img", "Range: bytes=-7\r\n", "206", "bytes 8388601-8388607/8388608",
     "out/dunlin/flash.img", 8388601, 7},
    {"GET /flash.img", "Range: bytes=5-6,8-9\r\n", "200", "8388608", "out/dunlin/flash.img", 0, 0},
    {"GET /flash.img", "Range: bytes=0-9\r\nIf-Range: \"another\"\r\n", "200", "8388608",
     "out/dunlin/flash.img", 0, 0},
    {"GET /flash.img", "Range: bytes=8388608-\r\n", "416", "bytes */8388608", NULL, 0, 0},
    {"HEAD /flash.img", "", "200", "Content-Length: 8388608", NULL, 0, 0},
    {"GET /list.txt", "", "200", "octet-stream", "mosaicum.yaml", 0, 0},
    {"GET /field/update.bin", "", "200", "octet-stream", "mosaicum.pins", 0, 0},
    {"GET /", "", "200", "dunlin/flash.img", NULL, 0, 0},
    {"GET /nothing", "", "404", "there is no such file here", NULL, 0, 0},
    {"GET /../mosaicum.yaml", "", "404", "no such file", NULL, 0, 0},
    {"GET /%2e%2e/mosaicum.yaml", "", "404", "no such file", NULL, 0, 0},
    {"POST /flash.img", "Content-Length: 5\r\n\r\nabc", "405", "Allow: GET, HEAD", NULL, 0, 0},
    {"PUT /new", "Content-Length: 0\r\n", "405", "Allow: GET, HEAD", NULL, 0, 0},
};

static void pages_are_given(const struct server *s) {
    for (size_t i = 0; i < sizeof asked / sizeof *asked; i++) {
        size_t length, size = 0;
        const char *body;
        char *answer = ask(s, asked[i].request, asked[i].fields, &length, &body);
        CU_ASSERT(strncmp(answer, "HTTP/1.1 ", 9) == 0);
        CU_ASSERT(strncmp(answer + 9, asked[i].status, 3) == 0);
        CU_ASSERT_PTR_NOT_NULL(strstr(answer, asked[i].has));
        if (asked[i].file) {
            char *own = read_whole(path_in(s->w, "%s", asked[i].file), &size);
            size_t part = asked[i].length ? asked[i].length : size;
            CU_ASSERT(length == part && memcmp(body, own + asked[i].first, part) == 0);
            free(own);
        }
        free(answer);
    }
}

/* ---- what must come of it ---- */

static void one_board_is_served(void) {
    struct server s = workspace();
    start(&s, (const char *const[]){"dunlin", NULL});
    CU_ASSERT_TRUE(fetches(&s, "boot.scr", 0, 1, "out/dunlin/boot.scr"));
    CU_ASSERT_TRUE(fetches(&s, "/dunlin/main.dtb", 8, 5, "out/dunlin/main.dtb"));
    CU_ASSERT_TRUE(fetches(&s, "flash.img", 1468, 8, "out/dunlin/flash.img"));
    CU_ASSERT_TRUE(fetches(&s, "./flash.loader.bin", 65464, 1, "out/dunlin/flash.loader.bin"));
    CU_ASSERT_TRUE(fetches(&s, "field/update.bin", 512, 1, "mosaicum.pins"));
    static const char *const others[] = {"ledger.json",
                                         "mosaicum.yaml",
                                         "../mosaicum.yaml",
                                         "/etc/passwd",
                                         "dunlin/../../mosaicum.yaml",
                                         "curlew/boot.scr",
                                         "boot.scr/",
                                         "update",
                                         "dunlin",
                                         " boot.scr"};
    for (size_t i = 0; i < sizeof others / sizeof *others; i++)
        CU_ASSERT_TRUE(refuses(&s, others[i], "there is no such file here"));
    CU_ASSERT_TRUE(refuses(&s, "", "no name"));
    CU_ASSERT_TRUE(refuses(&s, "boot.src", "no such file"));
    CU_ASSERT_TRUE(said(&s,
                        "dunlin (127.0.0.1) asks for boot.src: there is no such file here; there "
                        "is boot.scr"));
    pages_are_given(&s);
    CU_ASSERT_TRUE(said(&s, "dunlin (127.0.0.1) has flash.img: 8.0 MiB"));
    CU_ASSERT_TRUE(said(&s, "(TFTP, blocks of 1468, windows of 8"));
    CU_ASSERT_TRUE(said(&s, "1000 bytes"));
    char *told = stop(&s);
    CU_ASSERT_PTR_NOT_NULL(strstr(told, "requests were for what is not here"));
    free(told);
}

/* What is no longer what was built is not given away; what was built anew is. */
static void builds_are_followed(void) {
    struct server s = workspace();
    start(&s, (const char *const[]){"dunlin", NULL});
    CU_ASSERT_TRUE(fetches(&s, "boot-script.txt", 0, 1, "out/dunlin/boot-script.txt"));
    CU_ASSERT_TRUE(runs(0,
                        "cd '%s/out/dunlin' && cp boot-script.txt ../kept && printf x | dd "
                        "of=boot-script.txt conv=notrunc status=none",
                        s.w));
    CU_ASSERT_TRUE(refuses(&s, "boot-script.txt", "no longer what was built"));
    CU_ASSERT_TRUE(said(&s, "mosaicum build dunlin makes it anew"));
    CU_ASSERT_TRUE(runs(0, "cp '%s/out/kept' '%s/out/dunlin/boot-script.txt'", s.w, s.w));
    CU_ASSERT_TRUE(fetches(&s, "boot-script.txt", 0, 1, "out/dunlin/boot-script.txt"));
    /* one byte of a large image, which has no sum but that of its chunks */
    CU_ASSERT_TRUE(
        runs(0,
             "printf x | dd of='%s/out/dunlin/card.img' bs=1 seek=100000000 conv=notrunc "
             "status=none",
             s.w));
    CU_ASSERT_TRUE(refuses(&s, "card.img", "no longer what was built"));
    CU_ASSERT_TRUE(runs(0, "rm '%s/out/dunlin/boot.scr'", s.w));
    CU_ASSERT_TRUE(refuses(&s, "boot.scr", "the file is gone"));
    CU_ASSERT_TRUE(
        runs(0,
             "cd '%s' && sed -i 's/^release: .*/release: \"9.9\"/' boards/dunlin.yaml && "
             "printf 'boot: {entries: {main: {arguments: {added: \"1\"}}}}\\n' > x && "
             "'%s' --no-cache -q build dunlin",
             s.w, MOSAICUM_PROGRAM));
    CU_ASSERT_TRUE(fetches(&s, "boot.scr", 0, 1, "out/dunlin/boot.scr"));
    CU_ASSERT_TRUE(runs(0, "mv '%s/out/dunlin' '%s/out/away'", s.w, s.w));
    CU_ASSERT_TRUE(refuses(&s, "boot.scr", "not built now"));
    CU_ASSERT_TRUE(runs(0, "mv '%s/out/away' '%s/out/dunlin'", s.w, s.w));
    CU_ASSERT_TRUE(fetches(&s, "boot.scr", 0, 1, "out/dunlin/boot.scr"));
    free(stop(&s));
}

/* A name that several boards have is nobody's, unless it is known who asks. */
static void boards_keep_apart(void) {
    struct server s = workspace();
    start(&s, (const char *const[]){"--json", NULL});
    CU_ASSERT_TRUE(refuses(&s, "boot.scr", "several boards"));
    CU_ASSERT_TRUE(said(&s, "ask for curlew/boot.scr"));
    CU_ASSERT_TRUE(fetches(&s, "curlew/boot.scr", 0, 1, "out/curlew/boot.scr"));
    CU_ASSERT_TRUE(fetches(&s, "dunlin/boot.scr", 0, 1, "out/dunlin/boot.scr"));
    CU_ASSERT_TRUE(fetches(&s, "flash.first.bin", 0, 1, "out/dunlin/flash.first.bin"));
    CU_ASSERT_TRUE(refuses(&s, "curlew/flash.first.bin", "no such file"));
    char *told = stop(&s);
    json_t *d = json_loads(told, 0, NULL);
    const json_t *rows = json_object_get(json_array_get(json_object_get(d, "report"), 0), "rows");
    CU_ASSERT_EQUAL(json_array_size(rows), 2);
    CU_ASSERT_PTR_NOT_NULL(strstr(told, "\"served\""));
    json_decref(d);
    free(told);
}

static const struct {
    const char *what, *arguments, *says;
    int status;
} wrong[] = {
    {"nothing is built", "serve avocet --at 127.0.0.1",
     "avocet is not built: mosaicum build avocet", 2},
    {"no such board", "serve avocett --at 127.0.0.1", "avocet", 2},
    {"another way", "serve dunlin --at 127.0.0.1 --by nfs", "--by is tftp or http, not nfs", 2},
    {"no port", "serve dunlin --at 127.0.0.1 --tftp-port 70000", "70000 is no port", 2},
    {"… nor a number", "serve dunlin --at 127.0.0.1 --http-port x", "x is no port", 2},
    {"no network is named", "serve dunlin --bench none", "there are: ", 2},
    {"no such interface", "serve dunlin --at nothing0", "no interface nothing0; it has: ", 2},
    {"no such address", "serve dunlin --at 192.0.2.250",
     "does not have the address 192.0.2.250; it has: ", 2},
    {"an address with a prefix", "serve dunlin --at 127.0.0.1/8", "no IPv4 address", 2},
    {"DHCP for several", "serve dunlin curlew --at 127.0.0.1 --address 127.0.0.9",
     "--address is for one board", 2},
    {"DHCP for nobody that is known",
     "serve dunlin --at 127.0.0.1 --address 127.0.0.9 --bench none", "own hardware address only",
     2},
    {"DHCP of what is none", "serve dunlin --at 127.0.0.1 --address 127.0.0", "no IPv4 address", 2},
    {"an address of another network",
     "serve dunlin --at 127.0.0.1 --address 192.0.2.9 --bench bench2.yaml",
     "192.0.2.9 is no address for a board in the network of 127.0.0.1/8", 2},
    {"the bench file has none", "serve dunlin --at 127.0.0.1 --bench bench3.yaml", "bench3.yaml:2",
     2},
    {"a listed file is gone", "serve dunlin --at 127.0.0.1 --bench none",
     "list.txt is to be served as its definition says, and is not there", 2},
};

static void obstacles_are_named(void) {
    struct server s = workspace();
    write_text(path_in(s.w, "bench2.yaml"),
               "mosaicum: 1\nunits: {one: {board: dunlin, ethernet: \"52:54:00:12:34:56\"}}\n");
    write_text(path_in(s.w, "bench3.yaml"),
               "mosaicum: 1\nunits: {one: {board: dunlin, ethernet: \"52:54\"}}\n");
    for (size_t i = 0; i < sizeof wrong / sizeof *wrong; i++) {
        if (strstr(wrong[i].what, "listed file"))
            CU_ASSERT_TRUE(
                runs(0, "sed -i 's/list.txt: .*/list.txt: nowhere/' '%s/boards/dunlin.yaml'", s.w));
        struct outcome o = run_shell("cd '%s' && timeout 60 '%s' --no-cache %s", s.w,
                                     MOSAICUM_PROGRAM, wrong[i].arguments);
        if (o.status != wrong[i].status || !strstr(o.err, wrong[i].says))
            fprintf(stderr, "\n%s: %d %s\n", wrong[i].what, o.status, o.err);
        CU_ASSERT_EQUAL(o.status, wrong[i].status);
        CU_ASSERT_PTR_NOT_NULL(strstr(o.err, wrong[i].says));
        outcome_free(&o);
    }
    struct outcome told = run_shell("'%s' --no-cache -w '%s' check dunlin", MOSAICUM_PROGRAM, s.w);
    CU_ASSERT(told.status == 1 && strstr(told.out, "piece.missing") &&
              strstr(told.out, "served file list.txt"));
    outcome_free(&told);
    /* a port that somebody else has */
    struct server one = workspace();
    start(&one, (const char *const[]){"dunlin", NULL});
    struct outcome o =
        run_shell("cd '%s' && timeout 60 '%s' --no-cache serve dunlin --at 127.0.0.1 "
                  "--bench none --tftp-port %u",
                  one.w, MOSAICUM_PROGRAM, one.tftp);
    CU_ASSERT_EQUAL(o.status, 3);
    CU_ASSERT_PTR_NOT_NULL(strstr(o.err, "another program has it"));
    outcome_free(&o);
    free(stop(&one));
}

SUITE(serve_suite, {"one board is served", one_board_is_served},
      {"builds are followed", builds_are_followed}, {"boards keep apart", boards_keep_apart},
      {"obstacles are named", obstacles_are_named});
