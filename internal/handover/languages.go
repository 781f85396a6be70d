package handover

import (
	"fmt"
	"strings"
	"unicode/utf16"

	"testbench/internal/document"
)

// languages are in the order in which they are listed.
var languages = []*Language{
	{
		Name: "shell", Title: "a shell with curl", Ending: ".sh", Run: "sh FILE", template: "shell.tmpl",
		quote: shellQuote, join: "", variable: upperVariable("$"),
		escape: map[string]string{
			"": `"%s"`, "url": `"$(url "%s")"`, "json": `"$(json "%s")"`,
			"xml": `"$(xml "%s")"`,
		},
	},
	{
		Name: "go", Title: "Go", Ending: ".go", Run: "go run FILE", template: "go.tmpl", quote: jsonQuote, join: " + ",
		variable: camelVariable,
		escape:   map[string]string{"url": "url.QueryEscape(%s)", "json": "jsonText(%s)", "xml": "xmlText(%s)"},
	},
	{
		Name: "python", Title: "Python, with its own library", Ending: ".py", Run: "python3 FILE",
		template: "python.tmpl",
		quote:    pythonQuote, join: " + ", variable: snakeVariable, escape: pythonEscapes,
	},
	{
		Name: "requests", Title: "Python with requests", Ending: ".py", Run: "python3 FILE", template: "requests.tmpl",
		quote: pythonQuote, join: " + ", variable: snakeVariable, escape: pythonEscapes,
	},
	{
		Name: "javascript", Title: "JavaScript (Node.js)", Ending: ".mjs", Run: "node FILE",
		template: "javascript.tmpl",
		quote:    jsonQuote, join: " + ", variable: camelVariable, escape: scriptEscapes,
	},
	{
		Name: "typescript", Title: "TypeScript", Ending: ".mts", Run: "tsx FILE", template: "javascript.tmpl",
		quote: jsonQuote, join: " + ", variable: camelVariable, escape: scriptEscapes,
	},
	{
		Name: "java", Title: "Java", Ending: ".java", Run: "java FILE", template: "java.tmpl", quote: utf16Quote,
		join: " + ", variable: camelVariable, escape: javaEscapes,
	},
	{
		Name: "kotlin", Title: "Kotlin", Ending: ".kt",
		Run: "kotlinc FILE -include-runtime -d handover.jar && java -jar handover.jar", template: "kotlin.tmpl",
		quote: kotlinQuote, join: " + ", variable: camelVariable, escape: javaEscapes,
	},
	{
		Name: "csharp", Title: "C#", Ending: ".cs", Run: "dotnet run", template: "csharp.tmpl", quote: utf16Quote,
		join: " + ", variable: camelVariable,
		escape: map[string]string{"url": "Uri.EscapeDataString(%s)", "json": "JsonText(%s)", "xml": "XmlText(%s)"},
	},
	{
		Name: "powershell", Title: "PowerShell 7", Ending: ".ps1", Run: "pwsh FILE", template: "powershell.tmpl",
		quote: powershellQuote, join: " + ", variable: func(name string) string {
			return "$" + camelVariable(name)
		}, escape: map[string]string{
			"url": "[uri]::EscapeDataString(%s)", "json": "(JsonText %s)",
			"xml": "[System.Security.SecurityElement]::Escape(%s)",
		},
	},
	{
		Name: "php", Title: "PHP", Ending: ".php", Run: "php FILE", template: "php.tmpl", quote: phpQuote, join: " . ",
		variable: func(name string) string {
			return "$" + snakeVariable(name)
		}, escape: map[string]string{
			"url": "rawurlencode(%s)", "json": "jsonText(%s)",
			"xml": "htmlspecialchars(%s, ENT_QUOTES | ENT_XML1)",
		},
	},
	{
		Name: "ruby", Title: "Ruby", Ending: ".rb", Run: "ruby FILE", template: "ruby.tmpl", quote: rubyQuote,
		join:     " + ",
		variable: snakeVariable,
		escape: map[string]string{
			"url": "ERB::Util.url_encode(%s)", "json": "%s.to_json[1..-2]",
			"xml": "CGI.escapeHTML(%s)",
		},
	},
	{
		Name: "perl", Title: "Perl", Ending: ".pl", Run: "perl FILE", template: "perl.tmpl", quote: perlQuote,
		join: " . ",
		variable: func(name string) string {
			return "$" + snakeVariable(name)
		}, escape: map[string]string{"url": "url_text(%s)", "json": "json_text(%s)", "xml": "xml_text(%s)"},
	},
}

var (
	pythonEscapes = map[string]string{
		"url": `quote(%s, safe="")`, "json": "json.dumps(%s)[1:-1]",
		"xml": "xml_text(%s)",
	}
	scriptEscapes = map[string]string{
		"url": "encodeURIComponent(%s)", "json": "JSON.stringify(%s).slice(1, -1)",
		"xml": "xmlText(%s)",
	}
	javaEscapes = map[string]string{"url": "urlText(%s)", "json": "jsonText(%s)", "xml": "xmlText(%s)"}
)

// Variables of secrets have a word before them, so that none is a word of the language.
func snakeVariable(name string) string {
	if name == "token" {
		return name
	}
	return "secret_" + name
}

func camelVariable(name string) string { return camel(snakeVariable(name)) }

func upperVariable(before string) func(string) string {
	return func(name string) string {
		if name == "token" {
			return before + "token"
		}
		return before + EnvName(name)
	}
}

// EnvName is the variable of the environment that a program reads a secret from.
func EnvName(name string) string { return "SECRET_" + strings.ToUpper(name) }

func jsonQuote(text string) string { return document.QuoteJSON(text) }

// escaped writes a text between quotes, with a way to write each sign that is special.
func escaped(text, quote string, special map[rune]string, control func(r rune) string) string {
	var out strings.Builder
	out.WriteString(quote)
	for _, r := range text {
		switch {
		case special[r] != "":
			out.WriteString(special[r])
		case r < ' ' || r == 0x7f || r == 0x2028 || r == 0x2029 || r >= 0x80 && r < 0xa0 ||
			r >= 0x202a && r <= 0x202e || r >= 0x2066 && r <= 0x2069:
			out.WriteString(control(r))
		default:
			out.WriteRune(r)
		}
	}
	return out.String() + quote
}

// common are the escapes that most languages share.
func common(more ...string) map[rune]string {
	out := map[rune]string{'"': `\"`, '\\': `\\`, '\n': `\n`, '\r': `\r`, '\t': `\t`}
	for _, sign := range more {
		out[rune(sign[0])] = `\` + sign
	}
	return out
}

func fourHex(r rune) string { return fmt.Sprintf(`\u%04x`, r) }

// utf16Quote is for Java and C#, whose \u takes four digits and stands for a unit of
// UTF-16. Java reads \u before anything else, so that a line break cannot be written by it.
func utf16Quote(text string) string {
	return escaped(text, `"`, common(), func(r rune) string {
		var out strings.Builder
		for _, unit := range utf16.Encode([]rune{r}) {
			fmt.Fprintf(&out, `\u%04x`, unit)
		}
		return out.String()
	})
}

func kotlinQuote(text string) string { return escaped(text, `"`, common("$"), fourHex) }

func pythonQuote(text string) string { return escaped(text, `"`, common(), fourHex) }

func rubyQuote(text string) string {
	return escaped(text, `"`, common("#"), func(r rune) string { return fmt.Sprintf(`\u{%x}`, r) })
}

func phpQuote(text string) string {
	return escaped(text, `"`, common("$"), func(r rune) string { return fmt.Sprintf(`\u{%x}`, r) })
}

func perlQuote(text string) string {
	return escaped(text, `"`, common("$", "@"), func(r rune) string { return fmt.Sprintf(`\x{%x}`, r) })
}

func powershellQuote(text string) string {
	special := map[rune]string{
		'"': "`\"", '`': "``", '$': "`$", '\n': "`n", '\r': "`r", '\t': "`t", '“': "`“",
		'”': "`”", '„': "`„",
	}
	return escaped(text, `"`, special, func(r rune) string { return fmt.Sprintf("`u{%x}", r) })
}

func shellQuote(text string) string { return "'" + strings.ReplaceAll(text, "'", `'\''`) + "'" }
