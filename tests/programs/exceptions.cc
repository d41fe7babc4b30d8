// Exceptions through deep frames, threads and destructors: correct, and silent.
#include <condition_variable>
#include <cstdlib>
#include <execinfo.h>
#include <functional>
#include <memory>
#include <mutex>
#include <new>
#include <stdexcept>
#include <string>
#include <thread>
#include <ucontext.h>
#include <vector>

static int depth(int n) {
    std::string local(static_cast<std::size_t>(n) + 20, 'x');
    if (n == 0)
        throw std::runtime_error(local);
    return depth(n - 1) + static_cast<int>(local.size());
}

// On a stack from the heap return addresses are found as well.
static ucontext_t outside, inside;
static int turns;
static void coroutine() {
    for (;;) {
        try {
            depth(3);
        } catch (const std::exception &) {
            turns++;
        }
        void *frames[8];
        if (backtrace(frames, 8) > 1 && __builtin_return_address(0) != &turns)
            turns++;
        swapcontext(&inside, &outside);
    }
}

int main() {
    void *stack = std::malloc(65536);
    getcontext(&inside);
    inside.uc_stack.ss_sp = stack;
    inside.uc_stack.ss_size = 65536;
    makecontext(&inside, coroutine, 0);
    for (int i = 0; i < 3; i++)
        swapcontext(&outside, &inside);
    std::free(stack);
    int caught = 0;
    for (int i = 0; i < 200; i++)
        try {
            depth(i % 40);
        } catch (const std::exception &e) {
            caught += std::string(e.what()).size() == 20;
        }
    std::vector<std::thread> threads;
    std::mutex mutex;
    std::condition_variable ready;
    int done = 0;
    for (int t = 0; t < 4; t++)
        threads.emplace_back([&] {
            try {
                depth(10);
            } catch (...) {
            }
            std::lock_guard<std::mutex> lock(mutex);
            done++;
            ready.notify_one();
        });
    {
        std::unique_lock<std::mutex> lock(mutex);
        ready.wait(lock, [&] { return done == 4; });
    }
    for (auto &t : threads)
        t.join();
    try {
        std::vector<long> huge(1ul << 40);
        caught = -1;
    } catch (const std::bad_alloc &) {
        caught++;
    }
    auto shared = std::make_shared<std::function<int()>>([] { return 5; });
    return caught == 201 && (*shared)() == 5 ? 0 : 1;
}
