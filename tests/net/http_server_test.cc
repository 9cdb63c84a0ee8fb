// The server against callers of every kind: those who ask, and those who hold it up.
#include "net/http_server.h"

#include <gtest/gtest.h>

#include <atomic>
#include <mutex>
#include <stdexcept>
#include <thread>
#include <vector>

#include "net/coding.h"
#include "tests/net/raw_client.h"

namespace dingle {
namespace {

using namespace std::chrono_literals;

bool eventually(const std::function<bool()>& holds) {
  for (int i = 0; i < 6000; ++i) {
    if (holds()) return true;
    std::this_thread::sleep_for(5ms);
  }
  return false;
}

class HttpServerTest : public testing::Test, public HttpHandler {
 protected:
  HttpSettings settings;
  std::unique_ptr<HttpServer> server;
  std::atomic<int> handled{0}, refusals{0}, left{0};
  std::atomic<bool> hold{false};
  std::mutex mutex;
  std::vector<HttpRequest> requests;
  std::shared_ptr<int> streamed = std::make_shared<int>(0);

  void start(HttpSettings s = {}) {
    server = std::make_unique<HttpServer>(*this, std::move(s));
    ASSERT_EQ(server->listen("127.0.0.1:0"), "");
  }
  void TearDown() override {
    hold = false;
    server.reset();
  }
  Admission admit(HttpRequest& head) override {
    if (head.path == "/closed") return {problem_answer({403, "not for you"})};
    return {{}, 100'000};
  }
  HttpAnswer handle(HttpRequest& request) override {
    ++handled;
    {
      std::lock_guard lock(mutex);
      requests.push_back(request);
    }
    if (request.path == "/throws") throw std::runtime_error("a hole in the hull");
    if (request.path == "/waits") {
      while (hold && !request.has_left()) std::this_thread::sleep_for(1ms);
      left += request.has_left();
    }
    if (request.path == "/stream") {
      HttpAnswer answer{200, "application/x-ndjson"};
      answer.stream = [n = 0, alive = streamed](std::string& piece) mutable {
        piece = n % 2 == 0 ? std::to_string(n) + "\n" : "";
        return ++n < 1000;
      };
      return answer;
    }
    return {200, "text/plain", request.method + " " + request.body};
  }
  void refused() override { ++refusals; }

  // The whole conversation, until the other side closes.
  std::string say(const std::string& text) {
    RawClient client(server->address());
    client.send(text);
    return client.rest();
  }
};

std::string get(const std::string& target, const std::string& fields = "") {
  return "GET " + target + " HTTP/1.1\r\nHost: 127.0.0.1\r\n" + fields + "\r\n";
}
std::string post(const std::string& body, const std::string& fields = "", const std::string& target = "/") {
  return "POST " + target +
         " HTTP/1.1\r\nHost: localhost:1\r\nContent-Length: " + std::to_string(body.size()) + "\r\n" +
         fields + "\r\n" + body;
}

TEST_F(HttpServerTest, OneConnectionServesManyRequests) {
  start();
  RawClient client(server->address());
  client.send(get("/a%2Fb?x=1%202&y=a=b&x=%41+"));
  EXPECT_TRUE(client.until("\r\n\r\nGET ").starts_with("HTTP/1.1 200 OK\r\nContent-Type: text/plain\r\n"));
  client.send(post("one") + post("two"));  // at once
  EXPECT_NE(client.until("POST one").find("Content-Length: 8"), std::string::npos);
  client.until("POST two");
  client.send("HEAD / HTTP/1.1\r\nHost: [::1]\r\n\r\n");
  EXPECT_NE(client.until("\r\n\r\n").find("Content-Length: 4"), std::string::npos);
  client.send("GET / HTTP/1.0\r\nConnection: keep-alive\r\n\r\n");
  EXPECT_NE(client.until("GET ").find("Connection: keep-alive"), std::string::npos) << "no body before it";
  client.send(get("/", "Connection: close\r\n"));
  EXPECT_NE(client.rest().find("Connection: close"), std::string::npos);
  EXPECT_EQ(requests.at(0).path, "/a/b");
  const std::multimap<std::string, std::string> expected{{"x", "1 2"}, {"x", "A "}, {"y", "a=b"}};
  EXPECT_EQ(requests.at(0).parameters, expected);
  EXPECT_EQ(requests.at(0).peer, "127.0.0.1");
  EXPECT_EQ(requests.at(5).port, requests.at(0).port);
  EXPECT_EQ(refusals, 0);
}

TEST_F(HttpServerTest, BodiesOfEveryForm) {
  start();
  const std::string text(50'000, 'x'), packed = gzipped(text);
  EXPECT_NE(say(post(packed, "Content-Encoding: gzip\r\nConnection: close\r\n")).find("POST " + text),
            std::string::npos);
  const std::string chunked =
      "POST / HTTP/1.1\r\nHost: 127.0.0.1\r\nTransfer-Encoding: chunked\r\nConnection: close\r\n\r\n";
  EXPECT_NE(say(chunked + "3\r\nabc\r\nA;name=value\r\n0123456789\r\n0\r\nTrailer: x\r\n\r\n")
                .find("POST abc0123456789"),
            std::string::npos);
  RawClient slow(server->address());  // a byte at a time
  for (const char c : post("drop by drop")) slow.send({&c, 1});
  EXPECT_NE(slow.until("POST drop by drop").find("200 OK"), std::string::npos);
  RawClient waits(server->address());
  waits.send("POST / HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Length: 4\r\nExpect: 100-continue\r\n\r\n");
  EXPECT_EQ(waits.until("\r\n\r\n"), "HTTP/1.1 100 Continue\r\n\r\n");
  waits.send("body");
  EXPECT_NE(waits.until("POST body").find("200 OK"), std::string::npos);
}

// Each is refused with that status and text, the connection ends, and nobody handles it.
TEST_F(HttpServerTest, WhatIsNoRequestOrTwoIsRefused) {
  start();
  const std::string chunks = "POST / HTTP/1.1\r\nHost: 127.0.0.1\r\nTransfer-Encoding: chunked\r\n\r\n";
  const struct {
    std::string sent;
    int status;
    std::string text;
  } all[] = {
      {"hello\r\n\r\n", 400, "not a request"},
      {"PRI * HTTP/2.0\r\n\r\nSM\r\n\r\n", 505, "not a request"},
      {std::string("\x16\x03\x01\x02\x00\x01\x00\x01\xfc\x03\x03 hello", 17) + "\r\n\r\n", 400,
       "not a request"},
      {std::string(300, '\0') + "\r\n\r\n", 400, "not a request"},
      {"GET / HTTP/1.1\r\n\r\n", 400, "`Host` is missing"},
      {"GET / HTTP/1.1\nHost: 127.0.0.1\n\n", 505, "not a request"},
      {"GET http://127.0.0.1/ HTTP/1.1\r\nHost: 127.0.0.1\r\n\r\n", 400, "not a path"},
      {get("/", "Host: 127.0.0.1\r\n"), 400, "may stand once"},
      {get("/", "Authorization: Bearer a\r\nAuthorization: Bearer b\r\n"), 400, "may stand once"},
      {get("/", "Content-Length : 5\r\n") + "12345", 400, "not a request"},
      {post("12345", "Transfer-Encoding: chunked\r\n"), 400, ""},
      {post("12345", "Content-Length: 4\r\n"), 400, "not a request"},
      {get("/", "Content-Length: -1\r\n"), 400, "not a request"},
      {get("/", "Content-Length: 1e3\r\n"), 400, "not a request"},
      {get("/", "Content-Length: 99999999999999999999999\r\n"), 400, "not a request"},
      {get("/", "Transfer-Encoding: gzip, chunked\r\n"), 501, "not `chunked`"},
      {get("/", "Transfer-Encoding: xchunked\r\n"), 501, "not `chunked`"},
      {get("/", "Transfer-Encoding: chunked, identity\r\n"), 501, "not `chunked`"},
      {"POST / HTTP/1.0\r\nTransfer-Encoding: chunked\r\n\r\n0\r\n\r\n", 400, "HTTP/1.0"},
      {"GET / HTTP/1.7\r\nHost: 127.0.0.1\r\n\r\n", 505, "not a request"},
      {chunks + "x\r\nabc\r\n0\r\n\r\n", 400, "not a request"},
      {chunks + "-1\r\nabc\r\n0\r\n\r\n", 400, "not a request"},
      {chunks + "3\r\nabcd\r\n0\r\n\r\n", 400, "not a request"},
      {chunks + "FFFFFFFFFFFFFFFFF\r\nabc", 400, "not a request"},
      {chunks + "3;" + std::string(50'000, 'e'), 400, "chunk is too long"},
      {chunks + "FFFFFFF\r\n", 413, "larger than 100000 bytes"},
      {get("/?" + std::string(30'000, 'c')), 431, "larger than 24 KiB"},
      {get("/", "Cookie: " + std::string(30'000, 'c') + "\r\n"), 431, "POST"},
      {get("/?" +
           [] {
             std::string many;
             for (int i = 0; i < 1500; ++i) many += "a&";
             return many;
           }()),
       400, "parameters"},
      {post(std::string(100'001, 'x')), 413, "larger than 100000 bytes"},
      {post(gzipped(std::string(200'000, 'x')), "Content-Encoding: gzip\r\n"), 413, "100000 bytes"},
      {post("text", "Content-Encoding: gzip\r\nConnection: close\r\n"), 400, "not gzip"},
      {post(gzipped("text").substr(0, 12), "Content-Encoding: gzip\r\nConnection: close\r\n"), 400,
       "cut off"},
      {post("text", "Content-Encoding: br\r\n"), 415, "`br` is not known"},
      {get("/", "Expect: wonders\r\n"), 417, "100-continue"},
      {"GET / HTTP/1.1\r\nHost: skerry.example\r\n\r\n", 421, "not called so"},
      {"GET / HTTP/1.1\r\nHost: 127.0.0.1.skerry.example\r\n\r\n", 421, "not called so"},
      {get("/", "Origin: https://skerry.example\r\n"), 403, "other sites"},
      {get("/", "Origin: null\r\n"), 403, "other sites"},
      {get("/closed"), 403, "not for you"},
  };
  for (const auto& [sent, status, text] : all) {
    RawClient client(server->address());
    client.send(sent);
    const bool decoded_late = sent.find("gzip\r\n") != std::string::npos && status != 501;
    const std::string answer = decoded_late ? client.until("}\n") : client.rest();
    EXPECT_TRUE(answer.starts_with("HTTP/1.1 " + std::to_string(status) + " ")) << sent.substr(0, 200) << "\n"
                                                                                << answer;
    EXPECT_NE(answer.find(text), std::string::npos) << answer;
    EXPECT_NE(answer.find("application/problem+json"), std::string::npos) << answer;
  }
  EXPECT_EQ(handled, 0);
  RawClient client(server->address());
  client.send(get("/", "Origin: http://127.0.0.1\r\nRange: bytes=0-0,0-0\r\nBearer: x\r\n"));
  EXPECT_NE(client.until("GET ").find("200 OK"), std::string::npos) << "and it goes on";
}

TEST_F(HttpServerTest, AnswersToTheNamesOfAProxyBeforeIt) {
  settings.hosts = {"logs.skerry.example"};
  start(settings);
  const auto status = [&](const std::string& fields) {
    RawClient client(server->address());
    client.send("GET / HTTP/1.1\r\nConnection: close\r\n" + fields + "\r\n");
    return client.rest().substr(9, 3);
  };
  EXPECT_EQ(status("Host: logs.skerry.example\r\n"), "200");
  EXPECT_EQ(status("Host: Logs.Skerry.Example:8443\r\nOrigin: https://Logs.Skerry.Example:8443\r\n"), "200");
  EXPECT_EQ(status("Host: 127.0.0.1\r\n"), "200");
  EXPECT_EQ(status("Host: other.skerry.example\r\n"), "421");
  EXPECT_EQ(status("Host: logs.skerry.example.elsewhere.example\r\n"), "421");
}

TEST_F(HttpServerTest, CredentialsOfAnySpelling) {
  HttpRequest request;
  for (const char* text : {"Bearer secret", "bearer secret", "BEARER   secret"}) {
    request.headers = {{"authorization", text}};
    EXPECT_EQ(bearer_token(request), "secret") << text;
  }
  for (const char* text : {"", "Bearer", "Bearersecret", "Basic secret"}) {
    request.headers = {{"Authorization", text}};
    EXPECT_EQ(bearer_token(request), "") << text;
  }
}

TEST_F(HttpServerTest, WhoClosesItsSideGetsItsAnswer) {
  start();
  RawClient quick(server->address());
  quick.send(post("and off"));
  quick.half_close();
  EXPECT_NE(quick.rest().find("POST and off"), std::string::npos);
  hold = true;
  RawClient waits(server->address());
  waits.send(get("/waits"));
  waits.half_close();
  EXPECT_EQ(waits.until("102 Processing\r\n\r\n"), "HTTP/1.1 102 Processing\r\n\r\n");
  hold = false;
  EXPECT_NE(waits.rest().find("200 OK"), std::string::npos);
  EXPECT_EQ(left, 0);
}

TEST_F(HttpServerTest, WorkForWhoHasGoneEnds) {
  start();
  hold = true;
  {
    RawClient goes(server->address());
    goes.send(get("/waits"));
    ASSERT_TRUE(eventually([&] { return handled == 1; }));
  }
  EXPECT_TRUE(eventually([&] { return left == 1; }));
  RawClient breaks(server->address());
  breaks.send(get("/waits"));
  ASSERT_TRUE(eventually([&] { return handled == 2; }));
  breaks.reset();
  EXPECT_TRUE(eventually([&] { return left == 2; }));
}

TEST_F(HttpServerTest, AStreamEndsWhenNobodyListens) {
  start();
  RawClient client(server->address());
  client.send(get("/stream"));
  EXPECT_NE(client.until("2\r\n2\n\r\n").find("Transfer-Encoding: chunked"), std::string::npos);
  EXPECT_EQ(streamed.use_count(), 2);
  client.reset();
  EXPECT_TRUE(eventually([&] { return streamed.use_count() == 1; }));
  RawClient old(server->address());
  old.send("GET /stream HTTP/1.0\r\n\r\n");
  EXPECT_NE(old.until("\r\n\r\n0\n2\n").find("Connection: close"), std::string::npos) << "without chunks";
}

TEST_F(HttpServerTest, AnExceptionIsAnAnswer) {
  start();
  RawClient client(server->address());
  client.send(get("/throws") + get("/"));
  EXPECT_NE(client.until("the program goes on").find("a hole in the hull"), std::string::npos);
  client.until("GET ");
}

TEST_F(HttpServerTest, WhatIsKnownOrLongTravelsLight) {
  start();
  RawClient client(server->address());
  client.send(get("/"));
  const std::string first = client.until("GET ");
  const std::size_t at = first.find("ETag: ") + 6;
  const std::string tag = first.substr(at, first.find('\r', at) - at);
  client.send(get("/", "If-None-Match: \"other\", " + tag + "\r\n"));
  const std::string second = client.until("\r\n\r\n");
  EXPECT_TRUE(second.starts_with("HTTP/1.1 304 Not Modified\r\n")) << second;
  EXPECT_EQ(second.find("Content-Length"), std::string::npos);
  client.send(post(std::string(20'000, 'x'), "Accept-Encoding: br, gzip\r\n"));
  const std::string third = client.until("\r\n\r\n");
  EXPECT_NE(third.find("Content-Encoding: gzip"), std::string::npos);
  EXPECT_EQ(third.find("Content-Length: 20005"), std::string::npos);
}

// Who sends nothing, or too little, does not stay.
TEST_F(HttpServerTest, TheSlowAreTurnedOut) {
  HttpSettings s;
  s.for_head = s.idle = s.grace = 300ms;
  start(s);
  RawClient silent(server->address()), half(server->address()), body(server->address()),
      idle(server->address());
  half.send("GET / HTTP/1.1\r\nHo");
  body.send("POST / HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Length: 5000\r\n\r\n");
  idle.send(get("/"));
  EXPECT_NE(idle.until("GET ").find("200"), std::string::npos);
  std::atomic<bool> stop{false};
  std::thread trickle([&] {
    while (!stop && body.send("x")) std::this_thread::sleep_for(20ms);
  });
  EXPECT_EQ(silent.rest(), "");
  EXPECT_EQ(idle.rest(), "");
  EXPECT_NE(half.rest().find("408 Request Timeout"), std::string::npos);
  const std::string answer = body.rest();
  stop = true;
  trickle.join();
  EXPECT_TRUE(answer.empty() || answer.find("408") != std::string::npos) << answer;
  EXPECT_TRUE(eventually([&] { return server->counts().connections == 0; }));
  EXPECT_GE(server->counts().timed_out, 4u);
  EXPECT_EQ(refusals, 1) << "the one that was let in";
}

TEST_F(HttpServerTest, ANewOneTakesThePlaceOfWhoWaitedLongest) {
  HttpSettings s;
  s.connections = 40;
  s.of_one_peer = 20;
  start(s);
  hold = true;
  RawClient works(server->address(), "127.0.0.9");
  works.send(get("/waits"));
  ASSERT_TRUE(eventually([&] { return handled == 1; }));
  std::vector<RawClient> silent;
  for (int i = 0; i < 100; ++i) silent.emplace_back(server->address(), "127.0.0.2");
  EXPECT_TRUE(eventually([&] { return server->counts().accepted == 101; }));
  EXPECT_EQ(server->counts().connections, 21u) << "of one peer";
  for (int i = 0; i < 100; ++i)
    silent.emplace_back(server->address(), ("127.0.1." + std::to_string(i + 1)).c_str());
  RawClient late(server->address());
  late.send(get("/"));
  EXPECT_NE(late.until("GET ").find("200 OK"), std::string::npos);
  EXPECT_LE(server->counts().connections, 40u);
  hold = false;
  EXPECT_NE(works.until("GET ").find("200 OK"), std::string::npos) << "who is served stays";
}

TEST_F(HttpServerTest, LargeBodiesWaitForEachOtherAndTheSlowOneGoes) {
  HttpSettings s;
  s.large_bodies = 1;
  start(s);
  RawClient slow(server->address());
  slow.send("POST / HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Length: 90000\r\n\r\n");
  ASSERT_TRUE(eventually([&] { return server->counts().accepted == 1; }));
  std::atomic<bool> stop{false};
  std::thread trickle([&] {
    while (!stop && slow.send("x")) std::this_thread::sleep_for(20ms);
  });
  RawClient small(server->address()), large(server->address());
  small.send(post("small"));
  EXPECT_NE(small.until("POST small").find("200 OK"), std::string::npos) << "it needs no turn";
  large.send(post(std::string(80'000, 'x')));
  EXPECT_NE(large.until("200 OK").find("200 OK"), std::string::npos);
  stop = true;
  trickle.join();
}

TEST_F(HttpServerTest, ItStopsWhoeverIsThere) {
  start();
  hold = true;
  RawClient works(server->address()), streams(server->address()), half(server->address());
  works.send(get("/waits"));
  streams.send(get("/stream"));
  half.send("GET / HT");
  std::vector<RawClient> silent;
  for (int i = 0; i < 50; ++i) silent.emplace_back(server->address());
  ASSERT_TRUE(eventually([&] { return handled == 2 && server->counts().connections == 53; }));
  const auto begin = std::chrono::steady_clock::now();
  server->stop();
  EXPECT_LT(std::chrono::steady_clock::now() - begin, 10s);
  EXPECT_NE(works.rest().find("200 OK"), std::string::npos) << "what is in work is answered";
  EXPECT_NE(streams.rest().find("0\r\n\r\n"), std::string::npos);
  EXPECT_EQ(half.rest(), "");
}

TEST_F(HttpServerTest, ThreeHundredAtOnce) {
  start();
  std::vector<RawClient> clients;
  for (int i = 0; i < 300; ++i) clients.emplace_back(server->address());
  for (RawClient& c : clients) ASSERT_TRUE(c.send(post("here")));
  for (RawClient& c : clients) EXPECT_NE(c.until("POST here").find("200 OK"), std::string::npos);
}

TEST_F(HttpServerTest, WhatIsInTheWayOfListening) {
  start();
  HttpServer other(*this, {});
  EXPECT_NE(other.listen(server->address()).find("cannot listen on"), std::string::npos);
  HttpSettings tls;
  tls.certificate = tls.key = "/nonexistent";
  HttpServer third(*this, tls);
  EXPECT_NE(third.listen("127.0.0.1:0").find("certificate or the key"), std::string::npos);
}

TEST(Parameters, AreDecodedAndCounted) {
  using All = std::multimap<std::string, std::string>;
  EXPECT_EQ(*parameters_of("a=1&b&&=c&d=%2B+%zz%4"),
            (All{{"", "c"}, {"a", "1"}, {"b", ""}, {"d", "+ %zz%4"}}));
  const std::string odd("a b&=%\0\xff", 8);
  EXPECT_EQ(percent_decoded(percent_encoded(odd), true), odd);
}

}  // namespace
}  // namespace dingle
