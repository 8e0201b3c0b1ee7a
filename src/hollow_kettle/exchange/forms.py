"""The form by which a table is brought in."""

from django import forms

from hollow_kettle.ui.forms import Dressed


class UploadForm(Dressed, forms.Form):
    """A file to import."""

    file = forms.FileField(label="CSV or XLSX file", allow_empty_file=True)
