/* Reading sessions. They may be large (a hundred thousand findings are some 300 MB), so
   the text goes through simdjson: once to see where each finding stands, then each by
   itself, several at a time. It is untrusted input: anything missing or of another type
   is empty; what is no session at all is an error. */
extern "C" {
#include "session.h"
}

#include <algorithm>
#include <cerrno>
#include <condition_variable>
#include <cstdint>
#include <cstdio>
#include <cstdlib>
#include <cstring>
#include <deque>
#include <memory>
#include <mutex>
#include <simdjson.h>
#include <fcntl.h>
#include <string>
#include <string_view>
#include <sys/mman.h>
#include <sys/stat.h>
#include <thread>
#include <unistd.h>
#include <vector>
#include <zstd.h>

namespace {

using simdjson::dom::array;
using simdjson::dom::element;
using simdjson::dom::object;

/* The text of a file, with the room behind it that the parser wants: mapped where the
   last page has that room, else read. */
class text {
  public:
    const char *bytes = nullptr;
    size_t size = 0;

    ~text() {
        if (mapped)
            munmap(mapped, size);
    }

    bool read(const char *path, struct error *error) {
        int fd = open(path, O_RDONLY | O_CLOEXEC);
        struct stat s;
        if (fd < 0 || fstat(fd, &s) != 0 || S_ISDIR(s.st_mode)) {
            error_set(error, "cannot read %s: %s", path, strerror(fd < 0 ? errno : EISDIR));
            if (fd >= 0)
                close(fd);
            return false;
        }
        size_t tail = static_cast<size_t>(s.st_size) % 4096;
        if (S_ISREG(s.st_mode) && tail && tail <= 4096 - simdjson::SIMDJSON_PADDING)
            mapped = mmap(nullptr, static_cast<size_t>(s.st_size), PROT_READ, MAP_PRIVATE, fd, 0);
        bool good = true;
        if (mapped == MAP_FAILED || !mapped) {
            mapped = nullptr;
            good = read_all(fd, static_cast<size_t>(s.st_size));
            if (!good)
                error_set(error, "cannot read %s: %s", path, strerror(errno));
        } else {
            bytes = static_cast<const char *>(mapped);
            size = static_cast<size_t>(s.st_size);
        }
        close(fd);
        return good;
    }

    bool unpack(const char *path, struct error *error) {
        unsigned long long whole = ZSTD_getFrameContentSize(bytes, size);
        if (whole <= 1ULL << 33) {
            std::unique_ptr<char[]> plain(new char[whole + simdjson::SIMDJSON_PADDING]);
            size_t n = ZSTD_decompress(plain.get(), whole, bytes, size);
            if (!ZSTD_isError(n)) {
                if (mapped)
                    munmap(mapped, size);
                mapped = nullptr;
                own = std::move(plain);
                bytes = own.get();
                size = n;
                return true;
            }
        }
        error_set(error, "%s: not a session: its compressed form is damaged", path);
        return false;
    }

  private:
    /* Also of what has no size beforehand: a pipe. */
    bool read_all(int fd, size_t room) {
        room = room ? room + 1 : 1 << 16;
        own.reset(new char[room + simdjson::SIMDJSON_PADDING]);
        for (;;) {
            if (size == room) {
                std::unique_ptr<char[]> larger(new char[2 * room + simdjson::SIMDJSON_PADDING]);
                memcpy(larger.get(), own.get(), size);
                own = std::move(larger);
                room *= 2;
            }
            ssize_t got = ::read(fd, own.get() + size, room - size);
            if (got < 0 && errno == EINTR)
                continue;
            if (got <= 0) {
                bytes = own.get();
                return got == 0;
            }
            size += static_cast<size_t>(got);
        }
    }

    void *mapped = nullptr;
    std::unique_ptr<char[]> own;
};

/* Strings come again and again: each is kept once. Open addressing; most look-ups meet
   what they look for at once. */
class string_table {
  public:
    explicit string_table(struct run *run) : run(run), slots(1 << 12) {}

    const char *keep(std::string_view s) {
        uint64_t hash = hash_of(s);
        for (size_t at = hash & (slots.size() - 1);; at = (at + 1) & (slots.size() - 1)) {
            slot &k = slots[at];
            if (!k.text)
                return add(k, s, hash);
            if (k.hash == hash && k.size == s.size() && memcmp(k.text, s.data(), s.size()) == 0)
                return k.text;
        }
    }

  private:
    struct slot {
        uint64_t hash = 0;
        size_t size = 0;
        const char *text = nullptr;
    };

    static uint64_t mixed(uint64_t hash, uint64_t word) {
        hash = (hash ^ word) * 0x9e3779b97f4a7c15ULL;
        return hash ^ hash >> 32;
    }

    static uint64_t hash_of(std::string_view s) {
        uint64_t hash = s.size(), word = 0;
        size_t i = 0;
        for (; i + 8 <= s.size(); i += 8) {
            memcpy(&word, s.data() + i, 8);
            hash = mixed(hash, word);
        }
        word = 0;
        memcpy(&word, s.data() + i, s.size() - i);
        return mixed(hash, word);
    }

    const char *add(slot &free, std::string_view s, uint64_t hash) {
        char *copy = static_cast<char *>(pool_take(run->pool, s.size() + 1));
        memcpy(copy, s.data(), s.size());
        copy[s.size()] = 0;
        free = {hash, s.size(), copy};
        if (++count > slots.size() / 2) {
            std::vector<slot> larger(2 * slots.size());
            for (const slot &k : slots) {
                if (!k.text)
                    continue;
                size_t at = k.hash & (larger.size() - 1);
                while (larger[at].text)
                    at = (at + 1) & (larger.size() - 1);
                larger[at] = k;
            }
            slots = std::move(larger);
        }
        return copy;
    }

    struct run *run;
    std::vector<slot> slots;
    size_t count = 0;
};

class reader {
  public:
    explicit reader(struct run *run) : run(run), strings(run) {}

    const char *string(element o, const char *key) {
        std::string_view s;
        if (o[key].get(s) != simdjson::SUCCESS)
            return nullptr;
        return strings.keep(s);
    }

    static int64_t signed_number(element o, const char *key) {
        int64_t n;
        return o[key].get(n) == simdjson::SUCCESS ? n : 0;
    }
    static uint64_t number(element o, const char *key) {
        int64_t n;
        uint64_t large;
        if (o[key].get(n) == simdjson::SUCCESS)
            return n < 0 ? 0 : static_cast<uint64_t>(n);
        return o[key].get(large) == simdjson::SUCCESS ? large : 0;
    }
    static int small(element o, const char *key) {
        int64_t n = signed_number(o, key);
        return n > INT32_MIN && n < INT32_MAX ? static_cast<int>(n) : 0;
    }
    static double real(element o, const char *key) {
        double d;
        return o[key].get(d) == simdjson::SUCCESS ? d : 0;
    }
    static bool truth(element o, const char *key) {
        bool b;
        return o[key].get(b) == simdjson::SUCCESS && b;
    }
    static uint64_t address(element o, const char *key) {
        std::string_view s;
        uint64_t value = 0;
        if (o[key].get(s) != simdjson::SUCCESS || s.size() < 3)
            return 0;
        for (char c : s.substr(2))
            value = value << 4 | static_cast<uint64_t>(c <= '9' ? c - '0' : (c | 32) - 'a' + 10);
        return value;
    }
    static std::string_view view(element o, const char *key) {
        std::string_view s;
        return o[key].get(s) == simdjson::SUCCESS ? s : std::string_view();
    }

    /* One pass over the keys: frames are most of a session. */
    void frame(object o, struct frame *f) {
        for (auto field : o) {
            std::string_view key = field.key, s;
            int64_t n = 0;
            if (key == "function" || key == "file" || key == "module") {
                if (field.value.get(s) != simdjson::SUCCESS)
                    continue;
                const char *kept = strings.keep(s);
                (key == "function" ? f->function : key == "file" ? f->file : f->module) = kept;
            } else if (key == "line" || key == "column") {
                if (field.value.get(n) == simdjson::SUCCESS && n > 0 && n < INT32_MAX)
                    (key == "line" ? f->line : f->column) = static_cast<int>(n);
            } else if (key == "address") {
                if (field.value.get(s) == simdjson::SUCCESS && s.size() > 2)
                    for (char c : s.substr(2))
                        f->address = f->address << 4 |
                                     static_cast<uint64_t>(c <= '9' ? c - '0' : (c | 32) - 'a' + 10);
            } else if (key == "inlined" || key == "own") {
                bool b = false;
                if (field.value.get(b) == simdjson::SUCCESS)
                    (key == "own" ? f->own : f->inlined) = b;
            }
        }
    }

    struct stack stack(element o, const char *key) {
        struct stack result = {nullptr, 0};
        array list;
        if (o[key].get(list) != simdjson::SUCCESS)
            return result;
        size_t n = list.size();
        result.frames =
            static_cast<struct frame *>(pool_take(run->pool, (n + 1) * sizeof *result.frames));
        for (element e : list) {
            if (static_cast<size_t>(result.count) == n)
                break; /* simdjson counts no further than 2^24 */
            struct frame *f = &result.frames[result.count++];
            memset(f, 0, sizeof *f);
            object members;
            if (e.get(members) == simdjson::SUCCESS)
                frame(members, f);
        }
        return result;
    }

    void finding(element o, struct finding *f) {
        f->kind = kind_from_name(std::string(view(o, "kind")).c_str());
        snprintf(f->id, sizeof f->id, "%.16s", std::string(view(o, "id")).c_str());
        f->count = number(o, "count");
        f->pid = static_cast<uint32_t>(number(o, "pid"));
        f->thread = static_cast<uint32_t>(number(o, "thread"));
        f->message = string(o, "message");
        if (!f->message)
            f->message = "";
        f->function = string(o, "called");
        f->suppressed_by = string(o, "suppressed_by");
        f->stack = stack(o, "stack");
        f->other_address = address(o, "source");
        f->what = string(o, "use");
        element part;
        if (o["access"].get(part) == simdjson::SUCCESS && part.is_object()) {
            f->has_access = true;
            f->address = address(part, "address");
            f->size = number(part, "size");
            f->write = truth(part, "write");
        }
        if (o["block"].get(part) == simdjson::SUCCESS && part.is_object())
            block(part, f);
        if (o["origin"].get(part) == simdjson::SUCCESS && part.is_object())
            origin(part, f);
        if (o["descriptor"].get(part) == simdjson::SUCCESS && part.is_object()) {
            f->has_descriptor = true;
            f->descriptor = small(part, "number");
            f->path = string(part, "path");
            if (f->kind == KIND_DOUBLE_CLOSE) {
                f->allocated = stack(part, "opened");
                f->freed = stack(part, "closed");
            }
        }
        if (o["leak"].get(part) == simdjson::SUCCESS && part.is_object()) {
            for (int c = 0; c < LEAK_CLASSES; c++)
                if (view(part, "class") == leak_class_name(static_cast<enum leak_class>(c)))
                    f->leak = static_cast<enum leak_class>(c);
            f->blocks = number(part, "blocks");
            f->bytes = number(part, "bytes");
            f->dependent_blocks = number(part, "dependent_blocks");
            f->dependent_bytes = number(part, "dependent_bytes");
        }
        array list;
        if (o["processes"].get(list) == simdjson::SUCCESS) {
            f->shares = static_cast<struct share *>(
                pool_take(run->pool, (list.size() + 1) * sizeof *f->shares));
            for (element e : list)
                if (f->share_count < list.size())
                    f->shares[f->share_count++] = {static_cast<uint32_t>(number(e, "pid")),
                                                   number(e, "count")};
        }
    }

    /* One of the run's other parts, which may be absent; false: it is not JSON. */
    bool part(std::string_view piece, void (reader::*read)(element)) {
        element e;
        if (piece.empty())
            return true;
        if (parser.parse(piece.data(), piece.size(), false).get(e) != simdjson::SUCCESS)
            return false;
        if (read)
            (this->*read)(e);
        return true;
    }

    /* One finding's text; false: it is not JSON. */
    bool finding(std::string_view piece) {
        element e;
        if (parser.parse(piece.data(), piece.size(), false).get(e) != simdjson::SUCCESS)
            return false;
        struct finding *f = run_add(run);
        finding(e, f);
        if (f->kind == KIND_COUNT)
            run->count--;
        return true;
    }

    void processes(element o) {
        array list;
        if (o["processes"].get(list) != simdjson::SUCCESS)
            return;
        size_t room = list.size();
        run->processes =
            static_cast<struct process *>(pool_take(run->pool, (room + 1) * sizeof *run->processes));
        for (element e : list) {
            if (run->process_count == room)
                break;
            struct process *p = &run->processes[run->process_count++];
            memset(p, 0, sizeof *p);
            int64_t parent;
            bool known = e["parent"].get(parent) == simdjson::SUCCESS && parent >= 0 &&
                         parent < static_cast<int64_t>(run->process_count) - 1;
            p->parent = known ? static_cast<int>(parent) : -1;
            p->pid = static_cast<uint32_t>(number(e, "pid"));
            p->program = string(e, "program");
            p->command = string(e, "command");
            p->forked = truth(e, "forked");
            p->end = END_LOST;
            for (int end = END_EXIT; end <= END_LOST; end++)
                if (view(e, "state") == end_name(static_cast<enum process_end>(end)))
                    p->end = static_cast<enum process_end>(end);
            element exit;
            if (e["exit"].get(exit) == simdjson::SUCCESS) {
                p->status = small(exit, "status");
                p->signal = small(exit, "signal");
            }
        }
    }

    struct holding *holdings(element o, const char *key, size_t *count) {
        array list;
        if (o[key].get(list) != simdjson::SUCCESS)
            return nullptr;
        size_t room = list.size();
        auto *h = static_cast<struct holding *>(pool_take(run->pool, (room + 1) * sizeof(holding)));
        for (element e : list)
            if (*count < room)
                h[(*count)++] = {stack(e, "stack"), number(e, "from"), number(e, "bytes")};
        return h;
    }

    void history(element o) {
        array list;
        if (o["samples"].get(list) == simdjson::SUCCESS) {
            size_t room = list.size();
            run->samples =
                static_cast<struct sample *>(pool_take(run->pool, (room + 1) * sizeof(sample)));
            for (element e : list) {
                double at = 0;
                uint64_t bytes = 0, blocks = 0;
                if (run->sample_count == room || e.at_pointer("/0").get(at) ||
                    e.at_pointer("/1").get(bytes) || e.at_pointer("/2").get(blocks))
                    break;
                run->samples[run->sample_count++] = {at, bytes, blocks};
            }
        }
        element peak;
        if (o["peak"].get(peak) == simdjson::SUCCESS) {
            run->peak_at = real(peak, "at");
            run->peak_seen = number(peak, "bytes");
            run->peak = holdings(peak, "stacks", &run->peak_count);
        }
        run->growing = holdings(o, "growing", &run->growing_count);
    }

    void summary(element o) {
        element heap, leaks;
        run->searched = truth(o, "searched");
        run->incomplete = truth(o, "incomplete");
        if (o["heap"].get(heap) == simdjson::SUCCESS) {
            run->allocations = number(heap, "allocations");
            run->frees = number(heap, "frees");
            run->allocated_bytes = number(heap, "allocated_bytes");
            run->peak_bytes = number(heap, "peak_bytes");
            run->live.blocks = number(heap, "live_blocks");
            run->live.bytes = number(heap, "live_bytes");
        }
        for (int c = 0; c < LEAK_CLASSES && o["leaks"].get(leaks) == simdjson::SUCCESS; c++) {
            element tally;
            if (leaks[leak_class_name(static_cast<enum leak_class>(c))].get(tally))
                continue;
            run->leaks[c].blocks = number(tally, "blocks");
            run->leaks[c].bytes = number(tally, "bytes");
            run->searched = run->searched || o["searched"].error();
        }
    }

    void head(element o) {
        run->program = string(o, "program");
        run->directory = string(o, "directory");
        run->started = string(o, "started");
        run->pid = static_cast<uint32_t>(number(o, "pid"));
        run->seconds = real(o, "seconds");
        element exit;
        if (o["exit"].get(exit) == simdjson::SUCCESS) {
            run->status = small(exit, "status");
            run->signal = small(exit, "signal");
        }
        array args;
        size_t room = o["args"].get(args) == simdjson::SUCCESS ? args.size() : 0;
        run->arguments =
            static_cast<const char **>(pool_take(run->pool, sizeof(char *) * (room + 1)));
        for (size_t i = 0; i < room; i++) {
            std::string_view s;
            run->arguments[run->argument_count++] =
                args.at(i).get(s) == simdjson::SUCCESS ? strings.keep(s) : "";
        }
        processes(o);
    }

  private:
    void block(element o, struct finding *f) {
        if (!view(o, "variable").empty()) { /* its name is in the origin */
            f->variable.size = number(o, "size");
            f->variable.offset = signed_number(o, "offset");
            return;
        }
        f->has_block = true;
        f->block_start = address(o, "address");
        f->block_size = number(o, "size");
        f->block_offset = signed_number(o, "offset");
        std::string_view where = view(o, "where");
        f->where = where == "before"   ? WHERE_BEFORE
                   : where == "inside" ? WHERE_INSIDE
                   : where == "after"  ? WHERE_AFTER
                                       : WHERE_UNKNOWN;
        f->allocated = stack(o, "allocated");
        element freed;
        f->has_freed = o["freed"].get(freed) == simdjson::SUCCESS && freed.is_array();
        f->freed = stack(o, "freed");
    }

    void origin(element o, struct finding *f) {
        for (int k = FROM_HEAP; k <= FROM_OTHER; k++)
            if (view(o, "from") == origin_name(static_cast<enum origin_from>(k)))
                f->origin = static_cast<enum origin_from>(k);
        f->variable.name = string(o, "variable");
        f->origin_size = number(o, "size");
        f->origin_stack = stack(o, "stack");
        element declared;
        if (o["declared"].get(declared) == simdjson::SUCCESS) {
            f->variable.file = string(declared, "file");
            f->variable.line = small(declared, "line");
        }
    }

    struct run *run;
    simdjson::dom::parser parser;
    string_table strings;
};

/* Findings are read by several threads while others are still looked for in the text. */
class crew {
  public:
    ~crew() { wait(); }

    void add(bool reachable, std::string_view piece) {
        if (open.pieces.size() == enough || (!open.pieces.empty() && open.reachable != reachable))
            hand_out();
        open.reachable = reachable;
        open.pieces.push_back(piece);
    }

    /* All in order into the run, the reachable ones behind the others: those are kept.
       False: one of them is not JSON. */
    bool finish(struct run *run) {
        hand_out();
        wait();
        bool all = true;
        std::vector<const batch *> order;
        for (auto &w : workers) {
            all = all && w->good;
            for (const batch &b : w->done)
                order.push_back(&b);
        }
        std::sort(order.begin(), order.end(), [](const batch *a, const batch *b) {
            return a->reachable != b->reachable ? b->reachable : a->number < b->number;
        });
        for (const batch *b : order) {
            for (size_t i = b->begin; i < b->end; i++)
                *run_add(run) = b->from->findings[i];
            run->kept += b->reachable ? b->end - b->begin : 0;
        }
        run->count -= run->kept;
        for (auto &w : workers)
            pool_join(run->pool, w->run->pool);
        return all;
    }

  private:
    static constexpr size_t enough = 500, most = 4;

    struct batch {
        size_t number = 0;
        bool reachable = false;
        std::vector<std::string_view> pieces;
        /* once it is read */
        const struct run *from = nullptr;
        size_t begin = 0, end = 0;
    };
    struct worker {
        worker() : run(run_new()) {}
        worker(const worker &) = delete;
        worker &operator=(const worker &) = delete;
        ~worker() { run_free(run); }
        struct run *run;
        bool good = true;
        std::vector<batch> done;
    };

    void hand_out() {
        if (open.pieces.empty())
            return;
        open.number = batches++;
        std::unique_lock<std::mutex> hold(lock);
        waiting.push_back(std::move(open));
        open = batch();
        hold.unlock();
        changed.notify_one();
        if (batches > 1 && threads.size() + 1 < std::min<size_t>(most, processors))
            threads.emplace_back([this, w = add_worker()] { work(w); });
    }

    worker *add_worker() {
        workers.push_back(std::make_unique<worker>());
        return workers.back().get();
    }

    void work(worker *w) {
        reader r(w->run);
        std::unique_lock<std::mutex> hold(lock);
        for (;;) {
            changed.wait(hold, [this] { return complete || !waiting.empty(); });
            if (waiting.empty())
                return;
            batch b = std::move(waiting.front());
            waiting.pop_front();
            hold.unlock();
            b.from = w->run;
            b.begin = w->run->count;
            for (std::string_view piece : b.pieces)
                w->good = w->good && r.finding(piece);
            b.end = w->run->count;
            b.pieces = {};
            w->done.push_back(std::move(b));
            hold.lock();
        }
    }

    /* Does its part of what is left. */
    void wait() {
        if (complete)
            return;
        {
            std::lock_guard<std::mutex> hold(lock);
            complete = true;
        }
        changed.notify_all();
        work(add_worker());
        for (auto &thread : threads)
            thread.join();
    }

    size_t processors = std::max(1U, std::thread::hardware_concurrency());
    std::mutex lock;
    std::condition_variable changed;
    std::deque<batch> waiting;
    bool complete = false;
    batch open;
    size_t batches = 0;
    std::vector<std::unique_ptr<worker>> workers;
    std::vector<std::thread> threads;
};

/* The parts of a session as they stand in the text. */
struct parts {
    std::string_view tondo, head, summary, history;
    bool has_findings = false;
};

using simdjson::ondemand::json_type;

simdjson::error_code cut_list(simdjson::ondemand::value v, bool reachable, crew *findings) {
    simdjson::ondemand::array list;
    auto problem = v.get_array().get(list);
    if (problem)
        return problem;
    for (auto e : list) {
        simdjson::ondemand::value one;
        json_type type;
        std::string_view piece;
        simdjson::ondemand::object o;
        if ((problem = e.get(one)) || (problem = one.type().get(type)))
            return problem;
        if (type != json_type::object)
            continue;
        if ((problem = one.get_object().get(o)) || (problem = o.raw_json().get(piece)))
            return problem;
        findings->add(reachable, piece);
    }
    return simdjson::SUCCESS;
}

simdjson::error_code cut(simdjson::ondemand::document &document, parts *p, crew *findings) {
    simdjson::ondemand::object root, o;
    auto problem = document.get_object().get(root);
    if (problem)
        return problem;
    for (auto field : root) {
        std::string_view key;
        simdjson::ondemand::value value;
        json_type type;
        if ((problem = field.unescaped_key().get(key)))
            return problem;
        std::string_view *to = key == "tondo"     ? &p->tondo
                               : key == "run"     ? &p->head
                               : key == "summary" ? &p->summary
                               : key == "history" ? &p->history
                                                  : nullptr;
        bool found = key == "findings", reachable = key == "reachable";
        if ((problem = field.value().get(value)) || (problem = value.type().get(type)))
            return problem;
        if (to && type == json_type::object) {
            if ((problem = value.get_object().get(o)) || (problem = o.raw_json().get(*to)))
                return problem;
        } else if ((found || reachable) && type == json_type::array) {
            p->has_findings = p->has_findings || found;
            if ((problem = cut_list(value, reachable, findings)))
                return problem;
        }
    }
    return simdjson::SUCCESS;
}

} // namespace

extern "C" struct run *session_load(const char *path, struct error *error) {
    text t;
    if (!t.read(path, error))
        return nullptr;
    if (t.size >= 4 && memcmp(t.bytes, "\x28\xb5\x2f\xfd", 4) == 0 && !t.unpack(path, error))
        return nullptr;
    simdjson::ondemand::parser parser;
    simdjson::ondemand::document document;
    parts p;
    crew findings;
    auto problem =
        parser.iterate(t.bytes, t.size, t.size + simdjson::SIMDJSON_PADDING).get(document);
    if (!problem)
        problem = cut(document, &p, &findings);
    if (problem) {
        error_set(error, "%s: not a session: %s", path, simdjson::error_message(problem));
        return nullptr;
    }
    if (p.tondo.empty() || p.head.empty() || !p.has_findings) {
        error_set(error, "%s: not a session of Tondo", path);
        return nullptr;
    }
    struct run *run = run_new();
    reader r(run);
    if (!r.part(p.tondo, nullptr) || !r.part(p.head, &reader::head) ||
        !r.part(p.summary, &reader::summary) || !r.part(p.history, &reader::history) ||
        !findings.finish(run)) {
        run_free(run);
        error_set(error, "%s: not a session: a part of it is damaged", path);
        return nullptr;
    }
    return run;
}
