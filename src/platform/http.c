/* Files by HTTP, by libmicrohttpd: in the thread of whoever asked for it. */
#define _GNU_SOURCE
#include "platform/platform.h"

#include <arpa/inet.h>
#include <dlfcn.h>
#include <errno.h>
#include <microhttpd.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/socket.h>
#include <unistd.h>

/* Loaded when it is first asked for: no other run pays for it. */
static const char library[] = "libmicrohttpd.so.12";
#define FUNCTIONS(X)                                                                               \
    X(MHD_start_daemon)                                                                            \
    X(MHD_stop_daemon)                                                                             \
    X(MHD_get_timeout)                                                                             \
    X(MHD_run)                                                                                     \
    X(MHD_get_daemon_info)                                                                         \
    X(MHD_get_connection_info)                                                                     \
    X(MHD_lookup_connection_value)                                                                 \
    X(MHD_create_response_from_callback)                                                           \
    X(MHD_create_response_from_buffer)                                                             \
    X(MHD_add_response_header)                                                                     \
    X(MHD_queue_response)                                                                          \
    X(MHD_destroy_response)
static struct {
#define X(name) __typeof__(&name) name;
    FUNCTIONS(X)
#undef X
} mhd;
static int loaded; /* an errno value; -1: it is */

static int load(void) {
    if (loaded)
        return loaded < 0 ? 0 : loaded;
    void *handle = dlopen(library, RTLD_NOW | RTLD_LOCAL);
    bool all = handle != NULL;
#define X(name) all = all && (*(void **)&mhd.name = dlsym(handle, #name));
    FUNCTIONS(X)
#undef X
    loaded = all ? -1 : ENOSYS;
    return all ? 0 : ENOSYS;
}

enum { BLOCK = 256 << 10, IDLE_SECONDS = 30, MOST_CONNECTIONS = 64 };

static struct {
    struct MHD_Daemon *daemon;
    const struct mos_http *host;
    int wire; /* what is polled for it */
} here;

/* ---- one answer ---- */

struct part {
    void *file;
    uint64_t first, length;
    bool all;
};

static ssize_t give(void *self, uint64_t at, char *to, size_t room) {
    struct part *p = self;
    uint64_t left = at < p->length ? p->length - at : 0;
    size_t n = left < room ? (size_t)left : room;
    if (!n)
        return MHD_CONTENT_READER_END_OF_STREAM;
    if (here.host->read(here.host->self, p->file, to, n, p->first + at))
        return MHD_CONTENT_READER_END_WITH_ERROR;
    p->all = at + n == p->length;
    return (ssize_t)n;
}

static void given(void *self) {
    struct part *p = self;
    here.host->ended(here.host->self, p->file, p->all || !p->length);
    free(p);
}

static struct MHD_Response *response_of(const struct mos_http_answer *a) {
    if (a->text)
        return mhd.MHD_create_response_from_buffer(strlen(a->text), (void *)(uintptr_t)a->text,
                                                   MHD_RESPMEM_MUST_COPY);
    struct part *p = malloc(sizeof *p);
    struct MHD_Response *r = NULL;
    if (p) {
        *p = (struct part){a->file, a->first, a->length, false};
        r = mhd.MHD_create_response_from_callback(a->length, BLOCK, give, p, given);
    }
    if (!r) {
        here.host->ended(here.host->self, a->file, false);
        free(p);
    }
    return r;
}

static void add_fields(struct MHD_Response *r, const struct mos_http_answer *a) {
    char text[128];
    mhd.MHD_add_response_header(r, "Content-Type",
                                a->text ? "text/plain; charset=utf-8" : "application/octet-stream");
    if (a->tag) {
        snprintf(text, sizeof text, "\"%.100s\"", a->tag);
        mhd.MHD_add_response_header(r, "ETag", text);
    }
    if (!a->text || a->status == MHD_HTTP_RANGE_NOT_SATISFIABLE)
        mhd.MHD_add_response_header(r, "Accept-Ranges", "bytes");
    if (a->status == MHD_HTTP_PARTIAL_CONTENT) {
        snprintf(text, sizeof text, "bytes %llu-%llu/%llu", (unsigned long long)a->first,
                 (unsigned long long)(a->first + a->length - 1), (unsigned long long)a->size);
        mhd.MHD_add_response_header(r, "Content-Range", text);
    }
    if (a->status == MHD_HTTP_RANGE_NOT_SATISFIABLE) {
        snprintf(text, sizeof text, "bytes */%llu", (unsigned long long)a->size);
        mhd.MHD_add_response_header(r, "Content-Range", text);
    }
    if (a->status == MHD_HTTP_METHOD_NOT_ALLOWED)
        mhd.MHD_add_response_header(r, "Allow", "GET, HEAD");
}

static struct mos_peer peer_of(struct MHD_Connection *c) {
    const union MHD_ConnectionInfo *i =
        mhd.MHD_get_connection_info(c, MHD_CONNECTION_INFO_CLIENT_ADDRESS);
    if (!i || i->client_addr->sa_family != AF_INET)
        return (struct mos_peer){0, 0};
    const struct sockaddr_in *a = (const void *)i->client_addr;
    return (struct mos_peer){ntohl(a->sin_addr.s_addr), ntohs(a->sin_port)};
}

/* Called once for the fields of a request, and again for what comes with it. */
static enum MHD_Result take_request(void *self, struct MHD_Connection *c, const char *path,
                                    const char *method, const char *version, const char *data,
                                    size_t *size, void **seen) {
    static char once;
    struct mos_http_answer a = {.status = MHD_HTTP_METHOD_NOT_ALLOWED,
                                .text = "Nothing can be stored here.\n"};
    (void)self;
    (void)version;
    (void)data;
    if (!*seen) {
        *seen = &once;
        return MHD_YES;
    }
    if (*size) {
        *size = 0;
        return MHD_YES;
    }
    bool head = strcmp(method, MHD_HTTP_METHOD_HEAD) == 0;
    if (head || strcmp(method, MHD_HTTP_METHOD_GET) == 0) {
        const struct mos_http_request q = {
            .from = peer_of(c),
            .path = path,
            .range = mhd.MHD_lookup_connection_value(c, MHD_HEADER_KIND, "Range"),
            .if_range = mhd.MHD_lookup_connection_value(c, MHD_HEADER_KIND, "If-Range"),
            .head = head};
        a = (struct mos_http_answer){0};
        here.host->asked(here.host->self, &q, &a);
    }
    struct MHD_Response *r = response_of(&a);
    if (!r)
        return MHD_NO;
    add_fields(r, &a);
    enum MHD_Result result = mhd.MHD_queue_response(c, a.status, r);
    mhd.MHD_destroy_response(r);
    return result;
}

/* ---- the server ---- */

int mos_http_open(const struct mos_wires *w, const char *interface, const struct mos_peer *own,
                  const struct mos_http *host, int *wire) {
    int fd, e = load();
    (void)w;
    if (here.daemon)
        return EBUSY;
    if (!e)
        e = mos_network_bind(SOCK_STREAM, interface, own, &fd);
    if (e)
        return e;
    if (listen(fd, SOMAXCONN)) {
        e = errno;
        close(fd);
        return e;
    }
    here.host = host;
    here.daemon = mhd.MHD_start_daemon(MHD_USE_EPOLL, 0, NULL, NULL, take_request, NULL,
                                       MHD_OPTION_LISTEN_SOCKET, fd, MHD_OPTION_CONNECTION_TIMEOUT,
                                       (unsigned)IDLE_SECONDS, MHD_OPTION_CONNECTION_LIMIT,
                                       (unsigned)MOST_CONNECTIONS, MHD_OPTION_END);
    const union MHD_DaemonInfo *i =
        here.daemon ? mhd.MHD_get_daemon_info(here.daemon, MHD_DAEMON_INFO_EPOLL_FD) : NULL;
    if (!i) {
        if (here.daemon)
            mhd.MHD_stop_daemon(here.daemon);
        else
            close(fd);
        here.daemon = NULL;
        return ENOMEM;
    }
    here.wire = i->epoll_fd;
    *wire = here.wire;
    return 0;
}

int mos_http_step(const struct mos_wires *w, int wire, int64_t *within) {
    MHD_UNSIGNED_LONG_LONG ms;
    (void)w;
    (void)wire;
    if (!here.daemon || mhd.MHD_run(here.daemon) != MHD_YES)
        return EIO;
    *within = mhd.MHD_get_timeout(here.daemon, &ms) == MHD_YES && ms < IDLE_SECONDS * 1000U
                  ? (int64_t)ms * 1000000
                  : IDLE_SECONDS * INT64_C(1000000000);
    return 0;
}

bool mos_http_close(int wire) {
    if (!here.daemon || wire != here.wire)
        return false;
    mhd.MHD_stop_daemon(here.daemon);
    here.daemon = NULL;
    return true;
}
