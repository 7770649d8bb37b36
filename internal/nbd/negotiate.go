package nbd

import (
	"bufio"
	"crypto/tls"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"unicode/utf8"
)

// negotiation is a connection until an export is opened.
type negotiation struct {
	conn    net.Conn
	r       *bufio.Reader
	opt     Options
	exports Exports

	secure     bool // TLS is spoken
	structured bool
	noZeroes   bool
	context    bool   // base:allocation was asked for
	contextOf  string // the export it was asked for
}

// ErrProtocol is wrapped when a client does not speak the protocol.
var ErrProtocol = errors.New("the client does not speak the protocol")

func broken(format string, args ...any) error {
	return fmt.Errorf("%w: %s", ErrProtocol, fmt.Sprintf(format, args...))
}

// run negotiates. No export and no error: the client left.
func (n *negotiation) run() (Export, error) {
	greeting := binary.BigEndian.AppendUint64(nil, magicServer)
	greeting = binary.BigEndian.AppendUint64(greeting, magicOption)
	greeting = binary.BigEndian.AppendUint16(greeting, flagFixedNewstyle|flagNoZeroes)
	if _, err := n.conn.Write(greeting); err != nil {
		return nil, err
	}
	var flags [4]byte
	if _, err := io.ReadFull(n.r, flags[:]); err != nil {
		return nil, err
	}
	f := binary.BigEndian.Uint32(flags[:])
	if f&flagFixedNewstyle == 0 || f&^(flagFixedNewstyle|flagNoZeroes) != 0 {
		return nil, broken("flags %#x", f)
	}
	n.noZeroes = f&flagNoZeroes != 0
	if !n.opt.OnlyTLS {
		if err := n.who(nil); err != nil {
			return nil, err
		}
	}
	for range maxOptions {
		e, over, err := n.option()
		if err != nil || over {
			return e, err
		}
	}
	return nil, broken("more than %d options", maxOptions)
}

// who finds out what there is for who is at the other end.
func (n *negotiation) who(state *tls.ConnectionState) (err error) {
	n.exports, err = n.opt.Exports(state)
	return err
}

// option answers one option. over: negotiation has ended.
func (n *negotiation) option() (e Export, over bool, err error) {
	var head [16]byte
	if _, err := io.ReadFull(n.r, head[:]); err != nil {
		return nil, false, err
	}
	if m := binary.BigEndian.Uint64(head[:]); m != magicOption {
		return nil, false, broken("option with magic %#x", m)
	}
	opt, size := binary.BigEndian.Uint32(head[8:]), binary.BigEndian.Uint32(head[12:])
	if size > maxOption {
		if size > MaxPayload || opt == optExportName {
			return nil, false, broken("option %d of %d bytes", opt, size)
		}
		if _, err := io.CopyN(io.Discard, n.r, int64(size)); err != nil {
			return nil, false, err
		}
		return nil, false, n.refuse(opt, errTooBig, fmt.Sprintf("%d bytes, at most %d are read", size, maxOption))
	}
	data := make([]byte, size)
	if _, err := io.ReadFull(n.r, data); err != nil {
		return nil, false, err
	}
	if n.exports == nil && opt != optStartTLS && opt != optAbort {
		if opt == optExportName {
			return nil, false, broken("an export was asked for without TLS")
		}
		return nil, false, n.refuse(opt, errTLSRequired, "only clients that speak TLS are served here")
	}
	switch opt {
	case optExportName:
		e, err = n.exportName(data)
		return e, true, err
	case optAbort:
		_ = n.reply(opt, repAck, nil) // most do not wait for it
		return nil, true, nil
	case optList:
		return nil, false, n.list(data)
	case optStartTLS:
		return nil, false, n.startTLS(data)
	case optInfo, optGo:
		e, err = n.info(opt, data)
		return e, e != nil, err
	case optStructuredReply:
		if len(data) > 0 {
			return nil, false, n.refuse(opt, errInvalid, "the option has no data")
		}
		n.structured = true
		return nil, false, n.reply(opt, repAck, nil)
	case optListMeta, optSetMeta:
		return nil, false, n.meta(opt, data)
	}
	return nil, false, n.refuse(opt, errUnsupported, "")
}

func (n *negotiation) reply(opt, kind uint32, data []byte) error {
	b := binary.BigEndian.AppendUint64(nil, magicReply)
	b = binary.BigEndian.AppendUint32(b, opt)
	b = binary.BigEndian.AppendUint32(b, kind)
	b = binary.BigEndian.AppendUint32(b, uint32(len(data)))
	_, err := n.conn.Write(append(b, data...))
	return err
}

func (n *negotiation) refuse(opt, kind uint32, why string) error {
	return n.reply(opt, kind, []byte(why))
}

// refusal is how an export that cannot be opened is refused.
func (n *negotiation) refusal(opt uint32, err error) error {
	if errors.Is(err, ErrUnknown) {
		return n.refuse(opt, errUnknown, "there is no export of that name for you")
	}
	return n.refuse(opt, errPolicy, err.Error())
}

func flagsOf(i Info) uint16 {
	f := uint16(sendsFlags | sendsFlush | sendsFUA | sendsDF)
	if i.ReadOnly {
		f |= sendsReadOnly
	} else {
		f |= sendsTrim | sendsWriteZeroes
	}
	if i.MultiConn {
		f |= sendsMultiConn
	}
	return f
}

// exportName opens an export in the old way, in which nothing can be refused but by leaving.
func (n *negotiation) exportName(data []byte) (Export, error) {
	e, err := n.open(string(data))
	if err != nil {
		return nil, err
	}
	i := e.Info()
	b := binary.BigEndian.AppendUint64(nil, uint64(i.Size))
	b = binary.BigEndian.AppendUint16(b, flagsOf(i))
	if !n.noZeroes {
		b = append(b, make([]byte, 124)...)
	}
	if _, err := n.conn.Write(b); err != nil {
		e.Close(false)
		return nil, err
	}
	return e, nil
}

func (n *negotiation) open(name string) (Export, error) {
	if err := checkName(name); err != nil {
		return nil, err
	}
	e, err := n.exports.Open(name)
	if err == nil && n.contextOf != name {
		n.context = false
	}
	return e, err
}

func checkName(name string) error {
	if len(name) > maxName || !utf8.ValidString(name) {
		return fmt.Errorf("%w: its name is no text of at most %d bytes", ErrUnknown, maxName)
	}
	return nil
}

func (n *negotiation) list(data []byte) error {
	if len(data) > 0 {
		return n.refuse(optList, errInvalid, "the option has no data")
	}
	for _, name := range n.exports.List() {
		b := binary.BigEndian.AppendUint32(nil, uint32(len(name)))
		if err := n.reply(optList, repServer, append(b, name...)); err != nil {
			return err
		}
	}
	return n.reply(optList, repAck, nil)
}

// startTLS begins TLS. What was agreed on before is forgotten, and what came with the option in plain text
// ends the connection: it may be someone else's.
func (n *negotiation) startTLS(data []byte) error {
	switch {
	case len(data) > 0 || n.secure:
		return n.refuse(optStartTLS, errInvalid, "")
	case n.opt.TLS == nil:
		return n.refuse(optStartTLS, errPolicy, "no TLS is spoken here")
	case n.r.Buffered() > 0:
		return broken("plain text after STARTTLS")
	}
	if err := n.reply(optStartTLS, repAck, nil); err != nil {
		return err
	}
	c := tls.Server(n.conn, n.opt.TLS)
	if err := c.Handshake(); err != nil {
		return err
	}
	n.conn, n.r, n.secure = c, bufio.NewReaderSize(c, 16<<10), true
	n.structured, n.context, n.contextOf = false, false, ""
	state := c.ConnectionState()
	return n.who(&state)
}

// info answers INFO, and GO, which opens the export.
func (n *negotiation) info(opt uint32, data []byte) (Export, error) {
	name, rest, ok := cutText(data)
	if !ok || len(rest) < 2 || len(rest) != 2+2*int(binary.BigEndian.Uint16(rest)) {
		return nil, n.refuse(opt, errInvalid, "")
	}
	var i Info
	var e Export
	err := checkName(name)
	if err == nil && opt == optInfo {
		i, err = n.exports.Describe(name)
	} else if err == nil {
		if e, err = n.open(name); err == nil {
			i = e.Info()
		}
	}
	if err != nil {
		return nil, n.refusal(opt, err)
	}
	b := binary.BigEndian.AppendUint16(nil, infoExport)
	b = binary.BigEndian.AppendUint64(b, uint64(i.Size))
	err = n.reply(opt, repInfo, binary.BigEndian.AppendUint16(b, flagsOf(i)))
	for asked := rest[2:]; len(asked) > 0 && err == nil; asked = asked[2:] {
		switch kind := binary.BigEndian.Uint16(asked); kind {
		case infoName:
			err = n.reply(opt, repInfo, append(binary.BigEndian.AppendUint16(nil, kind), name...))
		case infoDescription:
			if i.Description != "" {
				err = n.reply(opt, repInfo, append(binary.BigEndian.AppendUint16(nil, kind), i.Description...))
			}
		}
	}
	if err == nil {
		b := binary.BigEndian.AppendUint16(nil, infoBlockSize)
		for _, size := range []uint32{1, Preferred, MaxPayload} {
			b = binary.BigEndian.AppendUint32(b, size)
		}
		err = n.reply(opt, repInfo, b)
	}
	if err == nil {
		err = n.reply(opt, repAck, nil)
	}
	if err != nil && e != nil {
		e.Close(false)
		e = nil
	}
	return e, err
}

// meta answers which contexts there are, and sets those that are asked for.
func (n *negotiation) meta(opt uint32, data []byte) error {
	if !n.structured {
		return n.refuse(opt, errInvalid, "structured replies come first")
	}
	name, rest, ok := cutText(data)
	if !ok || len(rest) < 4 {
		return n.refuse(opt, errInvalid, "")
	}
	queries := binary.BigEndian.Uint32(rest)
	rest = rest[4:]
	found := opt == optListMeta && queries == 0
	for range queries {
		var q string
		if q, rest, ok = cutText(rest); !ok {
			return n.refuse(opt, errInvalid, "")
		}
		found = found || q == allocation || opt == optListMeta && q == "base:"
	}
	if len(rest) > 0 {
		return n.refuse(opt, errInvalid, "")
	}
	err := checkName(name)
	if err == nil {
		_, err = n.exports.Describe(name)
	}
	if err != nil {
		return n.refusal(opt, err)
	}
	if opt == optSetMeta {
		n.context, n.contextOf = found, name
	}
	if found {
		b := binary.BigEndian.AppendUint32(nil, contextID)
		if err := n.reply(opt, repMetaContext, append(b, allocation...)); err != nil {
			return err
		}
	}
	return n.reply(opt, repAck, nil)
}

// cutText cuts a text that begins with its length.
func cutText(b []byte) (text string, rest []byte, ok bool) {
	if len(b) < 4 {
		return "", nil, false
	}
	n := binary.BigEndian.Uint32(b)
	if int64(n) > int64(len(b)-4) {
		return "", nil, false
	}
	return string(b[4 : 4+n]), b[4+n:], true
}
