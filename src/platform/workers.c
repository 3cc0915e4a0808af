#include "platform/platform.h"

#include <assert.h>
#include <pthread.h>
#include <stdlib.h>

enum { SLOTS = MOS_WORKER_SLOTS };

struct mos_worker {
    pthread_t thread;
    pthread_mutex_t mutex;
    pthread_cond_t changed;
    void (*work)(void *self, void *job);
    void *self;
    void *jobs[SLOTS];
    unsigned first, count;
    bool ending;
};

static void *run(void *argument) {
    struct mos_worker *w = argument;
    pthread_mutex_lock(&w->mutex);
    for (;;) {
        while (!w->count && !w->ending)
            pthread_cond_wait(&w->changed, &w->mutex);
        if (!w->count)
            break;
        void *job = w->jobs[w->first];
        assert(w->count <= SLOTS);
        w->first = (w->first + 1) % SLOTS;
        w->count--;
        pthread_cond_broadcast(&w->changed);
        pthread_mutex_unlock(&w->mutex);
        w->work(w->self, job);
        pthread_mutex_lock(&w->mutex);
    }
    pthread_mutex_unlock(&w->mutex);
    return NULL;
}

static struct mos_worker *start(const struct mos_host *h, void (*work)(void *self, void *job),
                                void *self) {
    (void)h;
    struct mos_worker *w = calloc(1, sizeof *w);
    if (!w)
        return NULL;
    w->work = work;
    w->self = self;
    pthread_mutex_init(&w->mutex, NULL);
    pthread_cond_init(&w->changed, NULL);
    if (pthread_create(&w->thread, NULL, run, w)) {
        free(w);
        return NULL;
    }
    return w;
}

static void submit(struct mos_worker *w, void *job) {
    assert(job && !w->ending);
    pthread_mutex_lock(&w->mutex);
    while (w->count == SLOTS)
        pthread_cond_wait(&w->changed, &w->mutex);
    w->jobs[(w->first + w->count++) % SLOTS] = job;
    pthread_cond_broadcast(&w->changed);
    pthread_mutex_unlock(&w->mutex);
}

static void finish(struct mos_worker *w) {
    assert(!w->ending);
    pthread_mutex_lock(&w->mutex);
    w->ending = true;
    pthread_cond_broadcast(&w->changed);
    pthread_mutex_unlock(&w->mutex);
    pthread_join(w->thread, NULL);
    pthread_cond_destroy(&w->changed);
    pthread_mutex_destroy(&w->mutex);
    free(w);
}

void mos_platform_workers(struct mos_host *host) {
    host->worker_start = start;
    host->worker_submit = submit;
    host->worker_finish = finish;
}
