#include "net/http_server.h"

#include <pthread.h>
#include <signal.h>

#include <boost/asio/executor_work_guard.hpp>
#include <boost/asio/io_context.hpp>
#include <boost/asio/post.hpp>
#include <boost/asio/steady_timer.hpp>
#include <boost/asio/strand.hpp>
#include <condition_variable>
#include <mutex>
#include <thread>
#include <utility>

#include "net/listener.h"
#include "net/session.h"

namespace dingle {

namespace asio = boost::asio;
using asio::ip::tcp;
using namespace std::chrono_literals;

namespace {

constexpr unsigned kThreads = 2;
constexpr auto kSweep = 200ms;
constexpr auto kNoDescriptors = 20ms;  // until it is tried again

// The threads for all connections of all servers; there as long as a server is.
class Network {
 public:
  static std::shared_ptr<Network> get() {
    static std::mutex mutex;
    static std::weak_ptr<Network> there;
    std::lock_guard lock(mutex);
    auto network = there.lock();
    if (!network) there = network = std::make_shared<Network>();
    return network;
  }
  Network() {
    for (unsigned i = 0; i < kThreads; ++i)
      threads_.emplace_back([this] {
        sigset_t all;  // signals are the main thread's
        sigfillset(&all);
        pthread_sigmask(SIG_BLOCK, &all, nullptr);
        io.run();
      });
  }
  ~Network() {
    work_.reset();
    io.stop();
    for (std::thread& t : threads_) t.join();
  }
  Network(const Network&) = delete;
  Network& operator=(const Network&) = delete;
  asio::io_context io{static_cast<int>(kThreads)};

 private:
  asio::executor_work_guard<asio::io_context::executor_type> work_{io.get_executor()};
  std::vector<std::thread> threads_;
};

}  // namespace

struct HttpServer::Inside : std::enable_shared_from_this<HttpServer::Inside> {
  Inside(asio::io_context& on, HttpHandler& handler, HttpSettings settings)
      : io(on),
        host(std::make_shared<SessionHost>(handler, std::move(settings))),
        strand(asio::make_strand(io)),
        acceptor(strand),
        pause(strand),
        sweeper(strand) {}

  void accept() {
    acceptor.async_accept(
        asio::make_strand(io),
        [self = shared_from_this()](const boost::system::error_code& error, tcp::socket socket) {
          if (error == asio::error::operation_aborted || self->host->stopping) return;
          if (error) {
            // Without descriptors: whoever only waits gives one up.
            if (error == asio::error::no_descriptors || error == asio::error::no_memory)
              self->host->make_room();
            self->pause.expires_after(kNoDescriptors);
            return self->pause.async_wait([self](const boost::system::error_code& end) {
              if (!end) self->accept();
            });
          }
          self->admit(std::move(socket));
          self->accept();
        });
  }

  void admit(tcp::socket socket) {
    boost::system::error_code error;
    const auto peer = socket.remote_endpoint(error);
    if (error) return;
    socket.set_option(tcp::no_delay(true), error);
    const auto session =
        std::make_shared<HttpSession>(std::move(socket), host, peer.address().to_string(), peer.port());
    if (host->add(session)) session->begin();
  }

  void sweep() {
    sweeper.expires_after(kSweep);
    sweeper.async_wait([self = shared_from_this()](const boost::system::error_code& error) {
      if (error) return;
      self->host->sweep();
      self->sweep();
    });
  }

  // Runs it on the strand, and waits for it.
  template <class Work>
  void on_strand(Work work) {
    std::mutex mutex;
    std::condition_variable changed;
    bool done = false;
    asio::post(strand, [&] {
      work();
      std::lock_guard lock(mutex);
      done = true;
      changed.notify_all();
    });
    std::unique_lock lock(mutex);
    changed.wait(lock, [&] { return done; });
  }

  asio::io_context& io;
  const std::shared_ptr<SessionHost> host;
  asio::strand<asio::io_context::executor_type> strand;
  tcp::acceptor acceptor;
  asio::steady_timer pause, sweeper;
  std::string address;  // set before anybody else sees it
};

HttpServer::HttpServer(HttpHandler& handler, HttpSettings settings) {
  const auto network = Network::get();
  network_ = network;
  inside_ = std::make_shared<Inside>(network->io, handler, std::move(settings));
}

HttpServer::~HttpServer() { stop(); }

std::string HttpServer::listen(const std::string& address) {
  SessionHost& host = *inside_->host;
  boost::system::error_code error;
  if (!host.settings.certificate.empty()) {
    host.tls.emplace(asio::ssl::context::tls_server);
    host.tls->set_options(asio::ssl::context::default_workarounds | asio::ssl::context::no_tlsv1 |
                              asio::ssl::context::no_tlsv1_1 | SSL_OP_NO_RENEGOTIATION,
                          error);
    if (!error) host.tls->use_certificate_chain_file(host.settings.certificate, error);
    if (!error) host.tls->use_private_key_file(host.settings.key, asio::ssl::context::pem, error);
    if (error) return "the certificate or the key of `tls` cannot be used: " + error.message();
  }
  auto socket = listen_on(address, Transport::tcp);
  if (!socket) return socket.problem().message;
  inside_->address = local_address(socket->fd());
  const std::string bound = host_and_port(inside_->address).host;
  host.on_loopback = bound == "::1" || bound.starts_with("127.");
  const bool six = bound.find(':') != std::string::npos;
  inside_->on_strand([&] {
    inside_->acceptor.assign(six ? tcp::v6() : tcp::v4(), socket->fd(), error);
    if (error) return;
    socket->release();
    inside_->accept();
    inside_->sweep();
  });
  return error ? "cannot listen on " + address + ": " + error.message() : "";
}

std::string HttpServer::address() const { return inside_->address; }

void HttpServer::stop(std::chrono::milliseconds within) {
  SessionHost& host = *inside_->host;
  if (!host.stopping.exchange(true))
    inside_->on_strand([&] {
      boost::system::error_code ignored;
      inside_->acceptor.close(ignored);
      inside_->pause.cancel(ignored);
    });
  for (const auto& session : host.sessions()) session->stop();
  for (const auto until = std::chrono::steady_clock::now() + within;
       host.size() != 0 && std::chrono::steady_clock::now() < until;)
    std::this_thread::sleep_for(2ms);
  for (const auto& session : host.sessions()) session->cut();
  while (host.size() != 0) std::this_thread::sleep_for(1ms);
  inside_->on_strand([&] {
    boost::system::error_code ignored;
    inside_->sweeper.cancel(ignored);
  });
  host.end_workers();
}

HttpServer::Counts HttpServer::counts() const {
  const SessionHost& host = *inside_->host;
  return {host.size(), host.accepted, host.displaced, host.timed_out, host.refused};
}

}  // namespace dingle
