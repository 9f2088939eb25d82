package editor

// This file has the types of the Language Server Protocol 3.17 that are used, and no others.

type position struct {
	Line      int `json:"line"`
	Character int `json:"character"` // in units of UTF-16
}

type span struct {
	Start position `json:"start"`
	End   position `json:"end"`
}

type location struct {
	URI   string `json:"uri"`
	Range span   `json:"range"`
}

type documentID struct {
	URI     string `json:"uri"`
	Version int    `json:"version,omitempty"`
}

type atPosition struct {
	TextDocument documentID `json:"textDocument"`
	Position     position   `json:"position"`
}

type ofDocument struct {
	TextDocument documentID `json:"textDocument"`
}

type initializeParams struct {
	ProcessID        *int   `json:"processId"`
	RootURI          string `json:"rootUri"`
	WorkspaceFolders []struct {
		URI string `json:"uri"`
	} `json:"workspaceFolders"`
	Capabilities struct {
		Workspace struct {
			WorkspaceEdit struct {
				DocumentChanges bool `json:"documentChanges"`
			} `json:"workspaceEdit"`
			DidChangeWatchedFiles struct {
				DynamicRegistration bool `json:"dynamicRegistration"`
			} `json:"didChangeWatchedFiles"`
		} `json:"workspace"`
		TextDocument struct {
			Completion struct {
				CompletionItem struct {
					SnippetSupport bool `json:"snippetSupport"`
				} `json:"completionItem"`
			} `json:"completion"`
		} `json:"textDocument"`
	} `json:"capabilities"`
}

type didOpenParams struct {
	TextDocument struct {
		URI     string `json:"uri"`
		Version int    `json:"version"`
		Text    string `json:"text"`
	} `json:"textDocument"`
}

type contentChange struct {
	Range *span  `json:"range"` // nil: the text is the whole document
	Text  string `json:"text"`
}

type didChangeParams struct {
	TextDocument   documentID      `json:"textDocument"`
	ContentChanges []contentChange `json:"contentChanges"`
}

type diagnostic struct {
	Range    span   `json:"range"`
	Severity int    `json:"severity"`
	Code     string `json:"code"`
	Source   string `json:"source"`
	Message  string `json:"message"`
	Data     *fix   `json:"data,omitempty"`
}

// The severities.
const (
	severityError = 1 + iota
	severityWarning
	severityInformation
)

// fix is the word that was probably meant in the place of a diagnostic's range.
type fix struct {
	Word string `json:"word"`
}

type publishParams struct {
	URI         string       `json:"uri"`
	Version     int          `json:"version,omitempty"`
	Diagnostics []diagnostic `json:"diagnostics"`
}

type completionItem struct {
	Label         string    `json:"label"`
	Kind          int       `json:"kind,omitempty"`
	Detail        string    `json:"detail,omitempty"`
	Documentation string    `json:"documentation,omitempty"`
	SortText      string    `json:"sortText,omitempty"`
	FilterText    string    `json:"filterText,omitempty"`
	Format        int       `json:"insertTextFormat,omitempty"` // 2: a snippet
	TextEdit      *textEdit `json:"textEdit,omitempty"`
}

// The kinds of completion.
const (
	kindField   = 5
	kindClass   = 7
	kindValue   = 12
	kindEnum    = 13
	kindKeyword = 14
	kindSnippet = 15
	kindMember  = 20
	kindType    = 25
)

type completionList struct {
	IsIncomplete bool             `json:"isIncomplete"`
	Items        []completionItem `json:"items"`
}

type textEdit struct {
	Range   span   `json:"range"`
	NewText string `json:"newText"`
}

type workspaceEdit struct {
	Changes map[string][]textEdit `json:"changes"`
}

type markup struct {
	Kind  string `json:"kind"`
	Value string `json:"value"`
}

type hover struct {
	Contents markup `json:"contents"`
	Range    *span  `json:"range,omitempty"`
}

type documentSymbol struct {
	Name           string           `json:"name"`
	Detail         string           `json:"detail,omitempty"`
	Kind           int              `json:"kind"`
	Range          span             `json:"range"`
	SelectionRange span             `json:"selectionRange"`
	Children       []documentSymbol `json:"children,omitempty"`
}

type workspaceSymbol struct {
	Name      string   `json:"name"`
	Kind      int      `json:"kind"`
	Location  location `json:"location"`
	Container string   `json:"containerName,omitempty"`
}

// The kinds of symbol.
const (
	symbolClass      = 5
	symbolProperty   = 7
	symbolEnum       = 10
	symbolInterface  = 11
	symbolFunction   = 12
	symbolArray      = 18
	symbolEnumMember = 22
	symbolEvent      = 24
)

type foldingRange struct {
	StartLine int    `json:"startLine"`
	EndLine   int    `json:"endLine"`
	Kind      string `json:"kind,omitempty"`
}

type selectionRange struct {
	Range  span            `json:"range"`
	Parent *selectionRange `json:"parent,omitempty"`
}

type inlayHint struct {
	Position    position `json:"position"`
	Label       string   `json:"label"`
	PaddingLeft bool     `json:"paddingLeft"`
}

type documentLink struct {
	Range  span   `json:"range"`
	Target string `json:"target"`
}

type codeAction struct {
	Title       string         `json:"title"`
	Kind        string         `json:"kind"`
	IsPreferred bool           `json:"isPreferred,omitempty"`
	Diagnostics []diagnostic   `json:"diagnostics,omitempty"`
	Command     *command       `json:"command,omitempty"`
	Edit        *workspaceEdit `json:"edit,omitempty"`
}

type command struct {
	Title     string   `json:"title"`
	Command   string   `json:"command"`
	Arguments []string `json:"arguments"`
}
