// Saving what a page shows as a file on the reader's machine.

/** Has the browser save a text. */
export function save(name: string, type: string, text: string) {
  const link = document.createElement('a')
  link.href = URL.createObjectURL(new Blob([text], { type }))
  link.download = name
  link.click()
  setTimeout(() => {
    URL.revokeObjectURL(link.href)
  })
}

/** One value of a table with commas (RFC 4180). A spreadsheet must not take for a formula what a host calls itself. */
function value(of: string | number | undefined): string {
  const text = String(of ?? '')
  const plain = /^[=+\-@\t\r]/.test(text) ? `'${text}` : text
  return /[",\r\n]/.test(plain) ? `"${plain.replaceAll('"', '""')}"` : plain
}

/** A table with commas, its head first. */
export const table = (rows: (string | number | undefined)[][]) => rows.map((row) => `${row.map(value).join(',')}\r\n`).join('')
