package nbd

// Numbers of the protocol.
const (
	magicServer  = 0x4e42444d41474943 // NBDMAGIC
	magicOption  = 0x49484156454f5054 // IHAVEOPT
	magicReply   = 0x0003e889045565a9
	magicRequest = 0x25609513
	magicSimple  = 0x67446698
	magicChunk   = 0x668e33ef

	flagFixedNewstyle = 1 << 0
	flagNoZeroes      = 1 << 1

	optExportName      = 1
	optAbort           = 2
	optList            = 3
	optStartTLS        = 5
	optInfo            = 6
	optGo              = 7
	optStructuredReply = 8
	optListMeta        = 9
	optSetMeta         = 10

	repAck         = 1
	repServer      = 2
	repInfo        = 3
	repMetaContext = 4
	repError       = 1 << 31
	errUnsupported = repError | 1
	errPolicy      = repError | 2
	errInvalid     = repError | 3
	errTLSRequired = repError | 5
	errUnknown     = repError | 6
	errTooBig      = repError | 9

	infoExport      = 0
	infoName        = 1
	infoDescription = 2
	infoBlockSize   = 3

	sendsFlags       = 1 << 0
	sendsReadOnly    = 1 << 1
	sendsFlush       = 1 << 2
	sendsFUA         = 1 << 3
	sendsTrim        = 1 << 5
	sendsWriteZeroes = 1 << 6
	sendsDF          = 1 << 7
	sendsMultiConn   = 1 << 8

	cmdRead        = 0
	cmdWrite       = 1
	cmdDisconnect  = 2
	cmdFlush       = 3
	cmdTrim        = 4
	cmdWriteZeroes = 6
	cmdBlockStatus = 7

	cmdFlagFUA    = 1 << 0
	cmdFlagNoHole = 1 << 1
	cmdFlagDF     = 1 << 2
	cmdFlagReqOne = 1 << 3

	chunkDone        = 1 << 0
	chunkNone        = 0
	chunkOffsetData  = 1
	chunkOffsetHole  = 2
	chunkBlockStatus = 5
	chunkError       = 1<<15 | 1

	stateHole = 1 << 0
	stateZero = 1 << 1
)

// Errors of requests, as the protocol numbers them.
const (
	EPERM     = 1
	EIO       = 5
	ENOMEM    = 12
	EINVAL    = 22
	ENOSPC    = 28
	EOVERFLOW = 75
	ENOTSUP   = 95
	ESHUTDOWN = 108
)

const (
	// MaxPayload bounds the bytes of one request.
	MaxPayload = 32 << 20
	// Preferred is the size of requests that clients are asked for.
	Preferred = 4096

	maxOption  = 64 << 10 // bytes of one option
	maxOptions = 256      // of one connection
	maxName    = 4096
	contextID  = 1 // of base:allocation
	allocation = "base:allocation"
)
