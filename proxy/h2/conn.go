package h2

import (
	"cmp"
	"crypto/tls"
	"encoding/binary"
	"errors"
	"net"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/net/http2/hpack"
)

// Handler is told of what concerns a whole connection. Its methods do not wait.
type Handler interface {
	// Open takes a new stream of a client, in s and r that it has room for; nil: it is
	// refused, as one that was not looked at. The block is good during the call; its
	// Fields may be exchanged for others.
	Open(c *Conn, head *Block) (s *Stream, r Receiver)
	// Busy tells whether there are streams, whenever that changes. It is called with the
	// connection locked.
	Busy(c *Conn, is bool)
	// Leaves tells that the peer opens no more streams here, or takes no more.
	Leaves(c *Conn)
}

// Receiver is told of what comes on a stream. Reader is the batch of the reader that
// tells, which flushes it: what is written in consequence is written with that.
type Receiver interface {
	// Head is the head of an answer, an interim answer, or a trailer, which isEnd. The
	// block is good during the call; its Fields may be exchanged for others.
	Head(b *Batch, head *Block, isEnd bool)
	// Data is a piece of a body, good during the call. It has taken flow bytes of the
	// windows, which Stream.Credit gives back.
	Data(b *Batch, p []byte, flow int, isEnd bool)
	// Sent tells that so many bytes that were held back have gone on, and with isEnd that
	// everything has.
	Sent(b *Batch, n int, isEnd bool)
	// Gone tells that the stream is over before its end. Nothing more is told after that.
	Gone(b *Batch, why *Gone)
	// Keep and Release say that somebody begins to use the receiver, and does not any more.
	// They may be called with the connection locked.
	Keep()
	Release()
}

// Gone is why a stream is over before its end.
type Gone struct {
	Code  Code
	IsOwn bool // this end says so, since the peer broke the protocol or left
	// IsUnprocessed says that the peer has done nothing about the stream (RFC 9113, section 8.7).
	IsUnprocessed bool
	Err           error  // of the connection; nil: it goes on
	Why           string // what the peer did wrong, where this end says so
}

func (g *Gone) Error() string {
	switch {
	case g.Err != nil:
		return g.Err.Error()
	case g.IsOwn:
		return g.Why + " (" + g.Code.String() + ")"
	}
	return "the peer reset the stream by " + g.Code.String()
}

// Config of a connection.
type Config struct {
	Handler  Handler
	IsClient bool
	Streams  int // a peer may have open at once; 0: 1000. Of a client, that it opens at most
	// Unheard is how many streams a client opens before the peer's settings have come, which
	// may allow fewer; 0: 100.
	Unheard int
	// Settled tells that the peer's settings have come, or changed; nil: nobody is told.
	Settled func()
	Budget  *Budget
	// Calm is what a peer may cost in a second by frames that bring nothing, beyond what it
	// earns by taking answers; 0: 1000.
	Calm int
	// Patience is how long the peer may take to take so many bytes; nil: 2 minutes.
	Patience func(n int) time.Duration
	Now      func() time.Duration // since any time; for Tick
}

// usualStreams is how many streams a peer takes that does not say it.
const usualStreams = 100

// Budget bounds what all connections that share it hold of bodies that their receivers do
// not take: past it, what comes takes up the window of its connection until it has gone on.
type Budget struct {
	Most int64 // bytes; 0: 64 MiB
	held atomic.Int64
}

// Held is how many bytes are held.
func (b *Budget) Held() int64 { return b.held.Load() }

// Add counts bytes that are held, and with a negative number those that are not any more.
func (b *Budget) Add(n int) {
	if b != nil && n != 0 {
		b.held.Add(int64(n))
	}
}

// IsOver tells whether more is held than there is room for.
func (b *Budget) IsOver() bool { return b != nil && b.held.Load() > cmp.Or(b.Most, 64<<20) }

// Windows for what comes. That of a stream grows while its bytes are taken as they come.
const (
	streamWindow    = 64 << 10
	streamWindowMax = 1 << 20
	connWindow      = 1 << 20
)

// Bounds of what waits to be written.
const (
	softRoom = 256 << 10 // no DATA is added past it
	hardRoom = 1 << 20   // nothing more is read of a peer that takes nothing
	keptRoom = 512 << 10 // a larger buffer is not kept; the others are until the connection is idle
)

// Conn is one connection.
type Conn struct {
	cfg  Config
	wire wire

	// Of the reader alone.
	dec       *hpack.Decoder
	block     Block
	blockID   uint32 // whose header list has begun and goes on; 0: none
	blockEnd  bool   // with it the side of its peer ends
	blockErr  error  // its stream's fault, found before its fields were read
	blockSize int    // bytes of it so far
	blockMore int    // frames of it so far
	batch     Batch

	greeted atomic.Bool  // the peer's settings have come
	isDirty atomic.Bool  // somebody flushes it soon
	busy    atomic.Int32 // streams
	heard   atomic.Int64 // when something came last, as Config.Now
	begun   atomic.Int64 // since when a frame or a header list has not come whole; 0: none has begun
	asked   atomic.Int64 // when a ping was sent that is not answered; 0: none

	mu        sync.Mutex // guards what follows
	w         []byte     // to be written
	spare     []byte
	flushing  bool
	draining  sync.WaitGroup
	isDead    bool // nothing is written any more
	isLast    bool // no more streams: of the peer's, or of ours
	ended     error
	enc       encoder
	streams   map[uint32]*Stream
	blocked   []*Stream // that could send on, had the connection room
	lastID    uint32    // the last of the peer's streams
	nextID    uint32    // of our own
	room      sync.Cond // is told when w gets shorter
	sendLeft  int64     // of the connection's window
	recvLeft  int64
	owed      int    // of the connection's window, to be given back
	sendStart int64  // window of a new stream
	told      uint32 // the last stream that the peer was told of as taken
	forgotten [32]uint32
	forgot    int // places of forgotten that were used
	writer    Writer
	name      []byte // room for one of a field
	peerMax   uint32 // streams that the peer takes at once
	isSettled bool   // the peer has said so, or that it does not
	calm      calm
	counts    *Counts
}

// Counts are what connections that share them have seen.
type Counts struct {
	Flooded  atomic.Uint64 // connections that were ended, since their peers asked for too much
	Broken   atomic.Uint64 // that were ended, since their peers broke the protocol
	Refused  atomic.Uint64 // streams that were refused
	TooLarge atomic.Uint64 // header lists over the limit
}

// New makes a connection on one of TCP, or of TLS over an Under, whose handshake is done.
// early was read of it before. Call Serve to begin.
func New(tcp *net.TCPConn, under *Under, t *tls.Conn, early []byte, counts *Counts, cfg Config) (*Conn, error) {
	if cfg.Streams == 0 {
		cfg.Streams = 1000
	}
	if counts == nil {
		counts = &Counts{}
	}
	c := &Conn{
		cfg:       cfg,
		wire:      wire{tcp: tcp, under: under, tls: t, early: early},
		enc:       newEncoder(),
		streams:   map[uint32]*Stream{},
		nextID:    1,
		sendLeft:  defaultWindow,
		sendStart: defaultWindow,
		recvLeft:  connWindow,
		peerMax:   uint32(cmp.Or(cfg.Unheard, usualStreams)),
		told:      maxWindow,
		calm:      calm{perSecond: cmp.Or(cfg.Calm, 1000), since: time.Now()},
		counts:    counts,
	}
	c.room.L = &c.mu
	c.dec = hpack.NewDecoder(defaultTable, c.emit)
	c.dec.SetMaxStringLength(maxString)
	if err := c.wire.open(); err != nil {
		return nil, err
	}
	c.heard.Store(int64(c.now()))
	c.greet()
	return c, nil
}

func (c *Conn) now() time.Duration {
	if c.cfg.Now == nil {
		return 0
	}
	return c.cfg.Now()
}

// greet writes what a connection begins with.
func (c *Conn) greet() {
	if c.cfg.IsClient {
		c.w = append(c.w, Preface...)
		c.w = appendFrame(c.w, 3*settingLength, frameSettings, 0, 0)
		c.w = appendSetting(c.w, settingPush, 0)
	} else {
		c.w = appendFrame(c.w, 4*settingLength, frameSettings, 0, 0)
		c.w = appendSetting(c.w, settingStreams, uint32(c.cfg.Streams))
		c.w = appendSetting(c.w, settingConnect, 1)
	}
	c.w = appendSetting(c.w, settingWindow, streamWindow)
	c.w = appendSetting(c.w, settingHeaderList, maxList)
	c.w = appendFrame(c.w, 4, frameWindow, 0, 0)
	c.w = appendUint32(c.w, connWindow-defaultWindow)
}

// RemoteAddr is where the peer is.
func (c *Conn) RemoteAddr() net.Addr { return c.wire.tcp.RemoteAddr() }

// IsGreeted tells whether the peer has shown that it speaks HTTP/2.
func (c *Conn) IsGreeted() bool { return c.greeted.Load() }

// Receivers appends those of all streams. They are kept for the caller.
func (c *Conn) Receivers(list []Receiver) []Receiver {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, s := range c.streams {
		s.to.Keep()
		list = append(list, s.to)
	}
	return list
}

// Streams is how many streams there are.
func (c *Conn) Streams() int { return int(c.busy.Load()) }

// Serve reads until the connection ends, and returns when nothing more is done for it.
// The error says what ended it; io.EOF: the peer did.
func (c *Conn) Serve() error {
	c.batch.add(c)
	c.batch.Flush()
	err := c.read()
	c.mu.Lock()
	if c.ended == nil {
		c.ended = err
	}
	err = c.ended
	c.mu.Unlock()
	c.end(err)
	c.batch.Flush()
	last := time.AfterFunc(lingerTime, c.wire.close) // for what is still on its way out
	c.draining.Wait()
	last.Stop()
	c.wire.close()
	return err
}

func (c *Conn) read() error {
	held := 0 // reads since something was flushed
	c.wire.waits = func() {
		held = 0
		c.batch.Flush()
	}
	if !c.cfg.IsClient {
		if err := c.readPreface(); err != nil {
			return err
		}
	}
	for {
		if err := c.takeFrames(); err != nil {
			return err
		}
		if in := c.wire.in; in != nil && in.r < in.w || c.blockID != 0 {
			if c.begun.Load() == 0 {
				c.begun.Store(int64(max(c.now(), 1)))
			}
		} else if c.begun.Load() != 0 {
			c.begun.Store(0)
		}
		// What is written is flushed before the reader waits: what came meanwhile goes with it.
		if held++; held >= mostHeld {
			c.wire.waits()
		}
		if err := c.awaitRoom(); err != nil {
			return err
		}
		if err := c.wire.fill(); err != nil {
			return err
		}
	}
}

// mostHeld is how often a reader goes on with what has come before it flushes.
const mostHeld = 8

func (c *Conn) readPreface() error {
	c.begun.Store(int64(max(c.now(), 1)))
	for {
		if in := c.wire.in; in != nil {
			have := in.b[in.r:in.w]
			n := min(len(have), len(Preface))
			if string(have[:n]) != Preface[:n] {
				return connError(ProtocolError, "the connection does not begin with the preface")
			}
			if n == len(Preface) {
				in.r += n
				c.begun.Store(0)
				return nil
			}
		}
		if err := c.wire.fill(); err != nil {
			return err
		}
	}
}

// takeFrames deals with the frames that have come whole.
func (c *Conn) takeFrames() error {
	in := c.wire.in
	if in == nil {
		return nil
	}
	for in.w-in.r >= frameHead {
		h := in.b[in.r : in.r+frameHead]
		n := int(h[0])<<16 | int(h[1])<<8 | int(h[2])
		if n > maxFrame {
			return connError(FrameSizeError, "a frame is longer than was allowed")
		}
		if in.w-in.r < frameHead+n {
			break
		}
		kind, flags, id := h[3], h[4], binary.BigEndian.Uint32(h[5:])&maxWindow
		payload := in.b[in.r+frameHead : in.r+frameHead+n]
		in.r += frameHead + n
		if !c.greeted.Load() {
			if kind != frameSettings || flags&flagAck != 0 {
				return connError(ProtocolError, "the first frame is not SETTINGS")
			}
			c.greeted.Store(true)
		}
		if err := c.take(kind, flags, id, payload); err != nil {
			var fault *StreamError
			if !errors.As(err, &fault) {
				return err
			}
			c.fault(id, fault)
		}
	}
	c.heard.Store(int64(c.now()))
	return nil
}

// fault resets a stream, since the peer broke the protocol on it.
func (c *Conn) fault(id uint32, why *StreamError) {
	c.mu.Lock()
	s := c.streams[id]
	if s != nil {
		s.to.Keep()
	}
	c.resetLocked(id, s, why.Code)
	isCalm := c.calm.take(resetCost)
	c.mu.Unlock()
	c.batch.add(c)
	if s != nil {
		s.to.Gone(&c.batch, &Gone{Code: why.Code, IsOwn: true, Why: why.Why})
		s.to.Release()
	}
	if !isCalm {
		c.flooded()
	}
}

// awaitRoom waits while the peer takes nothing of what is written for it.
func (c *Conn) awaitRoom() error {
	c.mu.Lock()
	defer c.mu.Unlock()
	if len(c.w) > hardRoom {
		c.mu.Unlock()
		c.wire.waits()
		c.mu.Lock()
	}
	for len(c.w) > hardRoom && !c.isDead && c.ended == nil {
		c.room.Wait()
	}
	switch {
	case c.ended != nil:
		return c.ended
	case c.isDead:
		return errEnded
	}
	return nil
}
