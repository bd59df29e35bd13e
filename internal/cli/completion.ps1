# completion of verdex for PowerShell; the words are handed over as they stand on the line, and nothing of it is evaluated
Register-ArgumentCompleter -Native -CommandName verdex -ScriptBlock {
    param($word, $line, $cursor)
    $words = @($line.CommandElements | Where-Object { $_.Extent.EndOffset -lt $cursor } | Select-Object -Skip 1 | ForEach-Object { $_.Extent.Text })
    $list = @(& (Get-Command verdex -CommandType Application | Select-Object -First 1) __complete powershell @words "$word" 2>$null)
    if ($list.Count -gt 1 -and $list[0] -eq 'words') {
        $list | Select-Object -Skip 1 | ForEach-Object {
            $text, $meaning = $_ -split "`t", 2
            if (-not $meaning) { $meaning = $text }
            [System.Management.Automation.CompletionResult]::new($text, $text, 'ParameterValue', $meaning)
        }
    }
}
