import type { Paper } from '../../api/client'

/** A paper as it is printed: on the screen a sheet, on paper nothing but itself. */
export function PaperView({ paper, ticketId }: { paper: Paper; ticketId: number }) {
  if (paper.labels.length > 0) {
    return (
      <div className="flex flex-wrap gap-4" data-print>
        {paper.labels.map((label) => (
          <article key={label.what} className="flex h-[42mm] w-[90mm] justify-between gap-2 overflow-hidden border border-line printed p-[4mm] print:border-0 print:break-after-page">
            <div className="min-w-0">
              <p className="text-xl font-bold">{label.number}</p>
              <p className="text-l font-bold">{label.what}</p>
              {label.lines.map((line) => <p key={line} dir="auto" className="line-clamp-2 text-s">{line}</p>)}
            </div>
            <div className="w-[34mm] shrink-0 [&_svg]:h-auto [&_svg]:w-full" role="img" aria-label={label.number} dangerouslySetInnerHTML={{ __html: label.code }} />
          </article>
        ))}
      </div>
    )
  }
  return (
    <article data-print className={`mx-auto w-full printed px-[7%] py-[6%] shadow-none ring-1 ring-line print:p-0 print:ring-0 ${paper.paper === 'letter' ? 'max-w-[816px]' : 'max-w-[794px]'}`}>
      <p className="text-l font-bold">{paper.shop}</p>
      {paper.address.map((line) => <p key={line} className="text-s text-soft">{line}</p>)}
      <h2 className="mb-1 mt-5 text-[30px] font-bold leading-9">{paper.title}</h2>
      {paper.head.map((line) => <p key={line} dir="auto" className="text-m text-soft">{line}</p>)}
      {paper.sections.map((section) => (
        <section key={section.heading} className="mt-4 break-inside-avoid-page">
          <h3 className="border-b border-hair pb-0.5 text-l font-bold">{section.heading}</h3>
          {section.lines.map((line) => <p key={line} dir="auto" className="mt-1 text-m">{line}</p>)}
          {section.rows.length > 0 && (
            <table className="mt-1 w-full text-m">
              <tbody>
                {section.rows.map((row, index) => (
                  <tr key={`${row.join('|')}-${index}`} className={section.strong && index === section.rows.length - 1 ? 'text-l font-bold' : ''}>
                    {row.map((cell, place) => <td key={place} dir="auto" className={`py-0.5 align-top ${section.strong && place > 0 ? 'whitespace-nowrap text-right' : 'pr-4'}`}>{cell}</td>)}
                  </tr>
                ))}
              </tbody>
            </table>
          )}
          {section.pictures.map((picture) => (
            <figure key={picture.file} className="mt-2 break-inside-avoid">
              <img src={`/api/tickets/${ticketId}/pictures/${picture.file}`} alt={picture.says} className="max-h-64" />
              {picture.says && <figcaption className="text-s text-soft">{picture.says}</figcaption>}
            </figure>
          ))}
        </section>
      ))}
    </article>
  )
}
